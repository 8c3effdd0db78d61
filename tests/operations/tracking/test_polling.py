"""Feeds taken in once, packages fetched once and examined, what is learned of products."""

import json
from datetime import timedelta

from tests.operations.within import RHONA, WithContext
from windbreak.core.values.feeds import NewFeed
from windbreak.core.values.hooks import NewHook
from windbreak.core.values.releases import DecideRepublished
from windbreak.operations.administration import outward
from windbreak.operations.errors import Refused
from windbreak.operations.reasoning import answers
from windbreak.operations.tracking import catalogue, feeds, polling, shelving
from windbreak.store.errors import AlreadyThere


class Tracking(WithContext):
    def test_releases_are_taken_in_once(self) -> None:
        self.feeds()
        count = len(self.context.store.releases.all())
        self.assertGreater(count, 25)
        again = polling.poll(self.context, "commons", fresh=True)
        self.assertEqual(again.taken, ())
        self.assertEqual(len(self.context.store.releases.all()), count)

    def test_what_looks_of_one_moment_bring_is_noted_and_told_of_each(self) -> None:
        hook = NewHook(id="desk", url=f"{self.where['feeds']}/desk", news=("release",))
        outward.add_hook(self.context, hook, RHONA)
        self.feeds()
        wrong = self.context.store.feeds.get("chandlery").model_copy(
            update={"id": "astray", "url": f"{self.where['feeds']}/nowhere"}
        )
        self.context.store.feeds.add(wrong)
        before = self.context.store.events.last()
        told = len(self.context.store.deliveries.all())
        lost = [r for r in self.context.store.releases.all() if r.feed in ("commons", "chandlery")]
        with self.context.store.transaction():
            for release in lost:
                self.context.store.releases.drop(release.id)
        listed = [f for f in self.context.store.feeds.all() if f.id != "advisories"]
        results = {r.feed: r for r in polling.poll_many(self.context, listed, fresh=True)}
        self.assertEqual(results["astray"].state, "failing")
        self.assertTrue(results["commons"].taken and results["chandlery"].taken)
        events = self.context.store.events.after(before)
        noted = {e.subject: e.text for e in events if e.kind in ("release", "feed")}
        self.assertEqual(noted["commons"], results["commons"].text)
        self.assertIn("status 404", noted["astray"])
        sent = [json.loads(d.body)["what"] for d in self.context.store.deliveries.all()][told:]
        news = {what["feed"]: what for what in sent}
        self.assertLess({"commons", "chandlery"}, {*news, ""})
        self.assertEqual(news["commons"]["taken"], list(results["commons"].taken))
        self.assertNotIn("astray", news)

    def test_products_are_learned_from_their_first_release(self) -> None:
        self.feeds()
        products = {p.id: p for p in self.context.store.products.all()}
        for id, access, name in [
            ("core/millrace", "public", "Millrace"),
            ("runtime/loom", "host", "Loom"),
            ("theme/breakwater", "licensed", "Breakwater"),
            ("plugin/trestle", "licensed", "Trestle"),
        ]:
            with self.subTest(product=id):
                self.assertEqual((products[id].access, products[id].name), (access, name))

    def test_a_feed_that_fails_is_asked_less_and_less_and_keeps_what_was_known(self) -> None:
        self.feeds()
        self.context.store.feeds.change("commons", url=f"{self.where['feeds']}/nowhere")
        waits = []
        for _ in range(3):
            result = polling.poll(self.context, "commons")
            self.assertEqual(result.state, "failing")
            feed = self.context.store.feeds.get("commons")
            assert feed.next_poll_at is not None and feed.polled_at is not None
            waits.append((feed.next_poll_at - feed.polled_at) // timedelta(minutes=1))
        for wait, least in zip(waits, (60, 120, 240), strict=True):
            self.assertTrue(least <= wait <= least * 1.1 + 1, waits)
        self.assertIn("status 404", self.context.store.feeds.get("commons").reason)
        self.assertTrue(self.context.store.releases.all(product="core/millrace"))

    def test_a_credential_is_wanted_trimmed_sealed_and_masked(self) -> None:
        url = f"{self.where['feeds']}/chandlery/releases.json"
        fields = {"id": "chandlery", "label": "The Chandlery", "url": url, "sign_in": "bearer"}
        with self.assertRaises(Refused) as caught:
            feeds.register(self.context, NewFeed.model_validate(fields), RHONA)
        self.assertEqual(caught.exception.code, "no-credential")
        new = NewFeed.model_validate({**fields, "credential": " a-token-of\u200b-the-maker \n"})
        feed = feeds.register(self.context, new, RHONA)
        self.assertEqual(feed.credential, "…aker")
        sealed = self.context.store.secrets.get("feed:chandlery")
        assert sealed is not None
        self.assertNotIn(b"token", sealed)
        self.assertEqual(self.context.sealer.open(sealed), "a-token-of-the-maker")
        with self.assertRaises(AlreadyThere):
            feeds.register(self.context, new, RHONA)

    def test_a_package_is_fetched_once_and_what_it_carries_with_it(self) -> None:
        self.feeds()
        theme = shelving.fetch_package(self.context, "theme/breakwater", "5.2")
        first = shelving.fetch_package(self.context, "plugin/trestle", "5.1")
        self.assertIn("inside Breakwater", first.source)
        self.assertEqual(shelving.fetch_package(self.context, "plugin/trestle", "5.1"), first)
        assert theme is not None
        self.assertEqual(self.context.store.releases.get("theme/breakwater@5.2").sha256, theme.id)

    def test_a_package_that_is_not_what_was_announced_is_refused(self) -> None:
        self.feeds()
        id = "plugin/oarlock@7.2"
        release = self.context.store.releases.get(id)
        assert release.package is not None
        for change, code in [
            ({"sha256": "0" * 64}, "wrong-archive"),
            ({"url": release.package.url.replace("7.2", "7.1.2"), "sha256": None}, "wrong-archive"),
            ({"url": f"{self.where['feeds']}/nowhere"}, "fetch-failed"),
        ]:
            with self.subTest(code=code):
                odd = release.package.model_copy(update=change)
                self.context.store.releases.change(id, package=odd)
                with self.assertRaises(Refused) as caught:
                    shelving.fetch_package(self.context, "plugin/oarlock", "7.2")
                self.assertEqual(caught.exception.code, code)
                self.assertIsNone(self.context.shelf.find("plugin/oarlock", "7.2"))

    def test_the_same_version_with_another_package_is_said_and_not_taken(self) -> None:
        self.feeds()
        release = self.context.store.releases.get("plugin/oarlock@7.2")
        assert release.package is not None
        other = release.package.model_copy(update={"sha256": "f" * 64})
        self.context.store.releases.change(release.id, package=other)
        result = polling.poll(self.context, "commons", fresh=True)
        self.assertIn("came again with another package", result.again[0])
        kept = self.context.store.releases.get(release.id)
        assert kept.package is not None
        self.assertEqual(kept.package.sha256, "f" * 64)
        # It goes to no site until somebody has decided.
        with self.assertRaises(Refused) as caught:
            shelving.fetch_package(self.context, "plugin/oarlock", "7.2")
        self.assertEqual(caught.exception.code, "republished")
        self.site("tarnsey-harbour")
        self.assertIn(("held", None), self.outcomes("plugin/oarlock"))
        choice = DecideRepublished(keep="new", why="the maker said so")
        catalogue.decide(self.context, "plugin/oarlock", "7.2", choice, RHONA)
        self.assertIn(("move", "7.2"), self.outcomes("plugin/oarlock"))
        self.assertEqual(
            shelving.fetch_package(self.context, "plugin/oarlock", "7.2").version, "7.2"
        )
        # It is decided once: the same package again is no news.
        self.assertEqual(polling.poll(self.context, "commons", fresh=True).again, ())

    def outcomes(self, product: str) -> list[tuple[str, str | None]]:
        return [
            (v.outcome, v.to if v.outcome == "move" else None)
            for v in answers.verdicts(self.context, "tarnsey-harbour").verdicts
            if v.product == product
        ]
