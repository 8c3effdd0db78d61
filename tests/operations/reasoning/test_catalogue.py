"""The catalogue by its committed generation, with two services on one data directory."""

import threading
from typing import Any
from unittest import mock

from tests.operations.within import RHONA, SOAK, WithContext
from windbreak.core.values.releases import NewRelease
from windbreak.core.values.ties import NewLockstep
from windbreak.operations.context import Context, close, open_context
from windbreak.operations.planning import ties
from windbreak.operations.reasoning import answers, catalogue
from windbreak.operations.tracking import catalogue as catalogue_of


def new(version: str) -> NewRelease:
    return NewRelease(
        product="plugin/lee", version=version, published="2026-01-01", source="a mail of its maker"
    )


class Interleaved(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        self.site("skerry-light")
        self.site("tarnsey-harbour")
        self.other = open_context(self.context.data, soak=SOAK, private_networks="127.0.0.0/8")
        self.addCleanup(close, self.other)

    def target(self, context: Context) -> str | None:
        found = answers.verdicts(context, "tarnsey-harbour").verdicts
        return next(v.to for v in found if v.product == "plugin/lee")

    def test_what_one_service_writes_the_other_answers_with(self) -> None:
        before = self.target(self.context), self.target(self.other)
        self.assertEqual(before[0], before[1])
        catalogue_of.type_in(self.other, new("5.6"), RHONA)
        self.assertEqual(self.target(self.context), "5.6")
        catalogue_of.type_in(self.context, new("5.7"), RHONA)
        self.assertEqual(self.target(self.other), "5.7")

    def test_a_write_amid_the_reading_is_not_lost(self) -> None:
        """The reader has its number and half of the rows; then somebody commits."""
        self.target(self.context)
        catalogue_of.type_in(self.other, new("5.6"), RHONA)
        amid, go_on = threading.Event(), threading.Event()
        real = catalogue._facts_of

        def slowly(context: Context, products: Any) -> Any:
            if context is self.context and not amid.is_set():
                found = real(context, products)
                amid.set()
                self.assertTrue(go_on.wait(20))
                return found
            return real(context, products)

        seen: list[str | None] = []
        with mock.patch.object(catalogue, "_facts_of", slowly):
            reader = threading.Thread(target=lambda: seen.append(self.target(self.context)))
            reader.start()
            self.assertTrue(amid.wait(20))
            catalogue_of.type_in(self.other, new("5.8"), RHONA)
            go_on.set()
            reader.join(30)
        self.assertIn(seen, (["5.6"], ["5.8"]))
        self.assertEqual(self.target(self.context), "5.8")

    def test_a_write_between_the_number_and_the_reading_is_not_lost(self) -> None:
        self.target(self.context)
        real = catalogue._made
        wrote: list[str] = []

        def late(context: Context, generation: int, before: Any) -> Any:
            if not wrote:
                wrote.append("5.9")
                catalogue_of.type_in(self.other, new("5.9"), RHONA)
            return real(context, generation, before)

        catalogue_of.type_in(self.other, new("5.6"), RHONA)
        with mock.patch.object(catalogue, "_made", late):
            self.target(self.context)
        self.assertEqual(self.target(self.context), "5.9")

    def test_many_readers_and_a_writer_end_with_the_last_write(self) -> None:
        stop = threading.Event()
        wrong: list[BaseException] = []

        def read(context: Context) -> None:
            try:
                while not stop.is_set():
                    self.target(context)
            except BaseException as error:
                wrong.append(error)
            finally:
                context.store.close()

        readers = [threading.Thread(target=read, args=(c,)) for c in (self.context, self.other) * 2]
        for reader in readers:
            reader.start()
        for n in range(8):
            catalogue_of.type_in((self.context, self.other)[n % 2], new(f"6.{n}"), RHONA)
        stop.set()
        for reader in readers:
            reader.join(30)
        self.assertEqual(wrong, [])
        self.assertEqual({self.target(self.context), self.target(self.other)}, {"6.7"})

    def test_what_changed_is_read_by_itself_and_is_as_if_all_had_been(self) -> None:
        catalogue.catalogue(self.context)
        catalogue_of.type_in(self.context, new("5.6"), RHONA)
        tie = NewLockstep(products=("plugin/lee", "plugin/trestle"), match="major", reason="both")
        ties.set_lockstep(self.context, tie, RHONA)
        kept = catalogue.catalogue(self.context)
        self.assertEqual(kept.changed, {"plugin/lee", "plugin/trestle"})
        whole = catalogue.catalogue(self.other)
        self.assertIsNone(whole.changed)
        self.assertEqual(kept.facts, whole.facts)
        for site in ("skerry-light", "tarnsey-harbour"):
            self.assertEqual(
                answers.verdicts(self.context, site), answers.verdicts(self.other, site)
            )

    def test_an_answer_reasoned_while_somebody_writes_is_not_kept(self) -> None:
        real = answers.answered
        wrote: list[str] = []

        def late(*args: Any) -> Any:
            told = real(*args)
            if not wrote:
                wrote.append("5.6")
                catalogue_of.type_in(self.other, new("5.6"), RHONA)
                other = threading.Thread(target=self.target, args=(self.context,))
                other.start()  # it follows the new catalogue before the old answer is kept
                other.join(30)
            return told

        with mock.patch.object(answers, "answered", late):
            self.target(self.context)
        self.assertEqual(self.target(self.context), "5.6")

    def test_a_catalogue_that_nobody_reasoned_with_is_not_passed_over(self) -> None:
        self.target(self.context)
        catalogue_of.type_in(self.other, new("5.6"), RHONA)
        catalogue.catalogue(self.context)  # read, and nothing asked of it
        other = new("9.9").model_copy(update={"product": "plugin/netloft"})
        catalogue_of.type_in(self.other, other, RHONA)
        self.assertEqual(self.target(self.context), "5.6")

    def test_what_a_release_can_not_touch_is_not_reasoned_about_again(self) -> None:
        for site in ("skerry-light", "tarnsey-harbour"):
            answers.verdicts(self.context, site)
        calls: list[str] = []
        real = answers.answered

        def counted(case: Any, *rest: Any) -> Any:
            calls.append(case.site.id)
            return real(case, *rest)

        with mock.patch.object(answers, "answered", counted):
            catalogue_of.type_in(
                self.context, new("5.6").model_copy(update={"product": "plugin/netloft"}), RHONA
            )
            for site in ("skerry-light", "tarnsey-harbour"):
                answers.verdicts(self.context, site)
        self.assertEqual(calls, [])
