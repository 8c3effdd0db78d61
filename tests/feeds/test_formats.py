"""Reading Atom and RSS, OSV, and a maker's own JSON by a recipe."""

import json
import unittest
from typing import Any

from windbreak.core.values.feeds import Reading
from windbreak.core.versions.ranges import parse_range
from windbreak.core.versions.version import parse_version
from windbreak.feeds import advisories, atom, recipe, recipes
from windbreak.feeds.announced import Announced, Asked
from windbreak.feeds.changelog import entries
from windbreak.feeds.errors import FeedUnreadable, RecipeError
from windbreak.feeds.fetching import Fetched

URL = "https://netloft.example/news/feed"


def asked(body: bytes | str, **more: Any) -> Asked:
    data = body.encode() if isinstance(body, str) else body
    return Asked("netloft", Fetched(URL, data, {}), **more)


ATOM = """<?xml version="1.0"?><feed xmlns="http://www.w3.org/2005/Atom"><title>Netloft</title>
<entry><title>Netloft 1.8.2 is out</title><updated>2026-11-02T08:00:00Z</updated>
<link rel="enclosure" href="packages/netloft-1.8.2.zip" length="4122"/>
<content type="html">&lt;ul&gt;&lt;li&gt;Security: captions are cleaned (A-2026-9)&lt;/li&gt;
&lt;li&gt;New panels&lt;/li&gt;&lt;li&gt;Galleries open faster.&lt;/li&gt;&lt;/ul&gt;</content></entry>
<entry><title>We have moved</title><updated>2026-11-01T08:00:00Z</updated></entry></feed>"""
RSS = """<rss version="2.0"><channel><title>Netloft</title><item><title>Netloft v2.0-rc1</title>
<pubDate>Mon, 02 Nov 2026 08:00:00 GMT</pubDate><description>A beginning.</description>
<enclosure url="https://netloft.example/2.zip" length="12" type="application/zip"/></item>
</channel></rss>"""


class AtomAndRss(unittest.TestCase):
    def read(self, body: str | bytes, **more: Any) -> Announced:
        reading = Reading(product="plugin/netloft", **more)
        return atom.read(asked(body, reading=reading))

    def test_an_entry_becomes_a_release_with_changes_and_package(self) -> None:
        (found,) = self.read(ATOM).announcements
        self.assertEqual((found.product, found.version), ("plugin/netloft", "1.8.2"))
        self.assertEqual(str(found.published), "2026-11-02")
        self.assertEqual([c.kind for c in found.changes], ["security", "feature", "fix"])
        self.assertEqual(found.changes[0].advisory, "A-2026-9")
        assert found.package is not None
        self.assertEqual(
            found.package.url, "https://netloft.example/news/packages/netloft-1.8.2.zip"
        )
        self.assertEqual(found.package.size, 4122)

    def test_an_entry_without_a_version_is_passed_over_and_said(self) -> None:
        self.assertIn("no version in its title, 'We have moved'", self.read(ATOM).faults[0])

    def test_what_is_missing_is_not_gone(self) -> None:
        self.assertFalse(self.read(ATOM).whole)

    def test_rss_is_read_too(self) -> None:
        (found,) = self.read(RSS).announcements
        self.assertEqual((found.version, str(found.published)), ("2.0-rc1", "2026-11-02"))

    def test_a_pattern_of_the_feeds_own_finds_the_version(self) -> None:
        body = ATOM.replace("Netloft 1.8.2 is out", "Release 2026.11 (build 1.9)")
        found = self.read(body, version=r"build (?P<version>[\d.]+)").announcements
        self.assertEqual(found[0].version, "1.9")

    def test_entities_and_other_documents_are_refused(self) -> None:
        bomb = "<!DOCTYPE f [<!ENTITY a 'ha'><!ENTITY b '&a;&a;&a;'>]>"
        for body in (bomb + ATOM.partition("?>")[2], "<html><body>Sign in</body></html>", "{}", ""):
            with self.subTest(body=body[:20]), self.assertRaises(FeedUnreadable):
                self.read(body)

    def test_an_ill_formed_document_is_read_as_far_as_it_goes_and_said(self) -> None:
        found = self.read(ATOM.replace("</feed>", ""))
        self.assertEqual(len(found.announcements), 1)
        self.assertIn("not well-formed", found.faults[0])


class Changelogs(unittest.TestCase):
    def test_kinds_are_found_by_patterns_and_their_marks_are_left_out(self) -> None:
        found = entries(
            "* Security: x\n- Breaking: y\n\nz",
            {"security": "^Security:", "breaking": "^Breaking:"},
        )
        self.assertEqual(
            [(c.kind, c.text) for c in found], [("security", "x"), ("breaking", "y"), ("fix", "z")]
        )

    def test_a_pattern_that_takes_for_ever_is_stopped(self) -> None:
        with self.assertRaises(FeedUnreadable):
            entries("a" * 400 + "!", {"security": r"^(([a-z])+.)+[A-Z]([a-z])+$"})


def osv(**more: Any) -> dict[str, Any]:
    affected = {
        "package": {"ecosystem": "Millrace", "name": "sextant"},
        "ranges": [{"type": "ECOSYSTEM", "events": [{"introduced": "2.0"}, {"fixed": "2.3"}]}],
    }
    return {
        "id": "A-2026-7",
        "summary": "x",
        "affected": [{**affected, **more.pop("affected", {})}],
        **more,
    }


class Advisories(unittest.TestCase):
    def read(self, document: Any) -> Announced:
        reading = Reading(packages={"sextant": "plugin/sextant"})
        return advisories.read(asked(json.dumps(document), reading=reading))

    def test_events_become_a_range_of_ours(self) -> None:
        for events, inside, outside in [
            ([{"introduced": "2.0"}, {"fixed": "2.3"}], ("2.0", "2.2.9"), ("1.9", "2.3")),
            ([{"introduced": "0"}, {"last_affected": "2.2"}], ("0.1", "2.2"), ("2.2.1",)),
            ([{"introduced": "0"}], ("0.1", "99"), ()),
            (
                [{"introduced": "1"}, {"fixed": "1.5"}, {"introduced": "2"}, {"fixed": "2.2"}],
                ("1.2", "2.1"),
                ("1.6", "2.2"),
            ),
        ]:
            with self.subTest(events=events):
                (one,) = self.read(
                    osv(affected={"ranges": [{"type": "SEMVER", "events": events}]})
                ).advisories
                affected = parse_range(one.affected)
                self.assertTrue(all(parse_version(v) in affected for v in inside))
                self.assertFalse(any(parse_version(v) in affected for v in outside))

    def test_its_weight_is_the_databases_word_or_the_vectors(self) -> None:
        vector = "CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H"
        for more, severity in [
            ({}, "high"),
            ({"database_specific": {"severity": "MODERATE"}}, "medium"),
            ({"severity": [{"type": "CVSS_V3", "score": vector}]}, "critical"),
            ({"severity": [{"type": "CVSS_V3", "score": "nonsense"}]}, "high"),
        ]:
            with self.subTest(severity=severity):
                self.assertEqual(self.read(osv(**more)).advisories[0].severity, severity)

    def test_names_that_are_nobodys_of_ours_are_passed_by(self) -> None:
        other = osv(affected={"package": {"name": "oddments"}})
        own = osv(id="A-2", affected={"package": {"name": "plugin/oarlock"}})
        found = self.read({"vulns": [other, own]})
        self.assertEqual([a.product for a in found.advisories], ["plugin/oarlock"])
        self.assertEqual(found.faults, ())

    def test_what_can_not_be_read_is_told_with_its_place(self) -> None:
        found = self.read([osv(), {"id": 7}, osv(id="A-3", affected={"ranges": []})])
        self.assertEqual(len(found.advisories), 1)
        self.assertEqual([f.partition(":")[0] for f in found.faults], ["advisory 1", "advisory 2"])
        with self.assertRaises(FeedUnreadable):
            self.read("hello")


RECIPE = """
label = "Gantry House"
address = "https://gantry.example/api/builds"
sign_in = "header"
sign_in_name = "X-Gantry-Key"
releases = "$.builds[*]"
[fields]
product = "$.what"
version = "$.tag"
published = "$.built"
changes = "$.notes"
package = "$.file.href"
[fields.requires]
"core/millrace" = "$.needs.millrace"
[convert]
version = "^v(.+)$"
published = "seconds"
product = { trestle = "plugin/trestle" }
"""
BUILD = {
    "what": "trestle",
    "tag": "v5.2",
    "built": 1_793_000_000,
    "notes": "New: rows\nUndo",
    "needs": {"millrace": ">=6.3"},
    "file": {"href": "files/trestle-5.2.zip"},
}


class Recipes(unittest.TestCase):
    def read(self, *builds: Any) -> recipes.Read:
        document = json.dumps({"builds": builds}).encode()
        return recipes.apply(
            recipes.read_recipe(RECIPE), document, "https://gantry.example/api/builds"
        )

    def test_a_release_is_read_by_its_paths_and_conversions(self) -> None:
        (found,) = self.read(BUILD).announcements
        self.assertEqual((found.product, found.version), ("plugin/trestle", "5.2"))
        self.assertEqual(str(found.published), "2026-10-26")
        self.assertEqual(found.requires, {"core/millrace": ">=6.3"})
        self.assertEqual(found.title, "Trestle 5.2")
        assert found.package is not None
        self.assertEqual(found.package.url, "https://gantry.example/api/files/trestle-5.2.zip")
        self.assertEqual([c.kind for c in found.changes], ["feature", "fix"])

    def test_what_is_missing_costs_that_release_and_is_said(self) -> None:
        for change, part in [
            ({"tag": None}, "no version at $.tag"),
            ({"tag": "latest"}, "no version in 'latest'"),
            ({"built": "soon"}, "not a date"),
            ({"what": "anchor"}, "is not a product id"),
            ({"needs": {"millrace": ">=6 <7"}}, "requires"),
        ]:
            with self.subTest(change=change):
                found = self.read({**BUILD, **change}, BUILD)
                self.assertEqual(len(found.announcements), 1)
                self.assertIn(part, found.faults[0])

    def test_all_faults_of_a_recipe_are_told_at_once(self) -> None:
        bad = (
            RECIPE.replace('"$.tag"', '"tag["')
            .replace('"$.what"', '"$.["')
            .replace("sign_in =", "signin =")
        )
        with self.assertRaises(RecipeError) as caught:
            recipes.read_recipe(bad)
        said = str(caught.exception)
        for part in ("fields.version", "fields.product", "signin"):
            self.assertIn(part, said)
        with self.assertRaises(RecipeError):
            recipes.read_recipe("label = ")

    def test_a_document_of_another_shape_is_refused(self) -> None:
        for body in (b"[]", b"{}", b"<html>", b'{"builds": []}', b'{"a":' * 100_000):
            with self.subTest(body=body[:10]), self.assertRaises(FeedUnreadable):
                recipe.read(
                    asked(
                        body, reading=Reading(recipe="gantry"), recipe=recipes.read_recipe(RECIPE)
                    )
                )
