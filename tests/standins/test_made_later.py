"""Releases that the demo's makers make after the start: on the feed, each with its package."""

from datetime import UTC, datetime, timedelta
from pathlib import Path
from tempfile import TemporaryDirectory
from unittest import TestCase

from tests.operations.within import WithContext
from windbreak.operations.tracking import polling
from windbreak.standins import made_later


class OnItsFeed(WithContext):
    def test_it_is_read_at_the_next_look_and_its_package_is_the_one_announced(self) -> None:
        self.feeds()
        folder = self.demo.standins_folder / "feeds"
        today = self.context.clock()
        soaked = today - timedelta(days=10)
        made_later.make(folder, "plugin/lee", "5.5.1", soaked)
        made_later.make(folder, "plugin/lee", "5.5.2", today)
        self.addCleanup((folder / made_later.FILE).unlink)
        polling.poll(self.context, "commons")
        for version, at in (("5.5.1", soaked), ("5.5.2", today)):
            id_ = self.context.store.releases.id_of("plugin/lee", version)
            release = self.context.store.releases.get(id_)
            self.assertEqual((release.published, release.refused), (at.date(), None))
        self.site("skerry-light")
        plan = self.approved("skerry-light")
        self.assertEqual(plan.targets["plugin/lee"], "5.5.1")  # the other one soaks
        self.assertEqual(self.carried_out(plan).state, "done")


class Refused(TestCase):
    def test_what_no_maker_makes_and_what_is_not_newer(self) -> None:
        with TemporaryDirectory() as name:
            folder = Path(name)
            for product, version, told in (
                ("plugin/nothing", "1.0", "no maker makes 'plugin/nothing'"),
                ("plugin/lee", "5.5", "5.5 was made already"),
                ("plugin/lee", "1.0", "1.0 is older than all of plugin/lee: 5.4, 5.5"),
            ):
                with self.assertRaisesRegex(made_later.ReleaseRefused, told):
                    made_later.make(folder, product, version, datetime.now(UTC))
            self.assertEqual(list(folder.iterdir()), [])
