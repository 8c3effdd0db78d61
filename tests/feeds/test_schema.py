"""The committed schema of the release feed is that of the models, and the demo's feeds fit it."""

import json
import unittest
from datetime import date
from pathlib import Path

from jsonschema import Draft202012Validator

from windbreak.feeds.schema import schema
from windbreak.standins import catalogue

FILE = Path(__file__).parents[2] / "docs/release-feed.schema.json"


class Schema(unittest.TestCase):
    def test_the_committed_one_is_up_to_date(self) -> None:
        self.assertEqual(json.loads(FILE.read_text()), schema())

    def test_feeds_of_the_demo_fit_it_and_wrong_ones_do_not(self) -> None:
        check = Draft202012Validator(schema())
        for made in (catalogue.COMMONS, catalogue.CHANDLERY, catalogue.EBBING):
            document = catalogue.feed_document("Maker", made, "https://maker.example", date.today())
            self.assertEqual(list(check.iter_errors(document)), [])
        for key, value in [
            ("channel", "nightly"),
            ("bundles", {"plugin/x": {}}),
            ("changes", [{}]),
        ]:
            told = {"product": "plugin/x", "version": "1.0", key: value}
            bad = {"version": "https://jsonfeed.org/version/1.1", "items": [{"_release": told}]}
            self.assertTrue(list(check.iter_errors(bad)), key)
