"""Drafts: at once, improved afterwards, approved as shown; what could be booked is kept."""

import time
from concurrent.futures import Executor, Future, ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from typing import Any

from tests.operations.within import RHONA, WithContext, catch_up
from windbreak.core.values.freezes import NewFreeze
from windbreak.core.values.holds import NewHold
from windbreak.core.values.rollouts import ApproveRollout, NewRollout
from windbreak.core.values.sites import NewNote
from windbreak.documents.rollouts import RolloutDraft
from windbreak.operations.administration import accounts
from windbreak.operations.errors import Refused
from windbreak.operations.planning import policy
from windbreak.operations.scheduling import bookings, drafts, freezes, rollouts
from windbreak.operations.scheduling.drafts import DraftChanged, DraftGone
from windbreak.operations.sites import marks
from windbreak.operations.views.calendar import calendar
from windbreak.wording.timetables import FIRST_TEXT

SITES = ("skerry-light", "skerry-light-twin", "seapink-florists", "whinchat-radio")


class Counting(Executor):
    """A thread that counts what it was given, and begins only when it is let."""

    def __init__(self) -> None:
        self.inner, self.count = ThreadPoolExecutor(1), 0

    def submit(self, fn: Any, /, *args: Any, **kwargs: Any) -> Future[Any]:
        self.count += 1
        return self.inner.submit(fn, *args, **kwargs)

    def shutdown(self, wait: bool = True, *, cancel_futures: bool = False) -> None:
        self.inner.shutdown(wait)


class WithDrafts(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        for site in SITES:
            self.site(site)
        now = datetime.now(UTC)
        self.later = now.replace(hour=13, minute=0, second=30) - now  # when no window is open
        self.executor = self.context.executor = Counting()

    def times(self) -> dict[str, object]:
        return {b.site: b.starts_at for b in self.context.store.bookings.all(state="waiting")}

    def fleet(self) -> tuple[RolloutDraft, bool]:
        kept = drafts.fleet(self.context)
        assert kept is not None
        return kept

    def freeze(self, site: str, days: int = 2) -> None:
        now = self.context.clock()
        new = NewFreeze(from_=now, to=now + timedelta(days=days), site=site, reason="a sale")
        freezes.add(self.context, new, RHONA)

    def approve(self, id_: str, **more: object) -> list[str]:
        asked = ApproveRollout(draft=id_, **more)  # type: ignore[arg-type]
        rollout = rollouts.approve(self.context, asked, RHONA)
        return sorted(member.site for member in rollout.going)


class Shown(WithDrafts):
    def test_the_first_answer_has_lawful_times_and_the_final_one_reasons(self) -> None:
        gate = Future[None]()
        self.executor.inner.submit(gate.result)
        first = drafts.asked(self.context, NewRollout())
        self.assertEqual((first.improved, {m.why for m in first.members}), (0, {FIRST_TEXT}))
        by_site = {m.site: m for m in first.members}
        twin = by_site["skerry-light-twin"]
        assert twin.starts_at is not None and by_site["skerry-light"].starts_at is not None
        ends = twin.starts_at + timedelta(minutes=twin.minutes, hours=20)
        self.assertGreaterEqual(by_site["skerry-light"].starts_at, ends)
        self.assertEqual(drafts.shown(self.context, first.id).improved, 0)
        gate.set_result(None)
        final = drafts.shown(self.context, first.id, 30)
        self.assertEqual(final.improved, 1)
        self.assertEqual(drafts.shown(self.context, final.id), final)
        self.assertNotIn(FIRST_TEXT, {m.why for m in final.members})
        until = time.monotonic() + 10
        while not (told := [e for e in self.context.store.events.after(0) if e.kind == "draft"]):
            self.assertLess(time.monotonic(), until, "nobody was told")
        self.assertEqual([e.subject for e in told], [first.id])

    def test_what_was_shown_is_booked_at_the_times_and_with_the_reasons_that_were_shown(
        self,
    ) -> None:
        draft = drafts.finished(self.context, NewRollout())
        marks.note(self.context, "seapink-florists", "us", NewNote(text="call Ives"), RHONA)
        asked = self.executor.count
        self.assertEqual(self.approve(draft.id), sorted(SITES))
        self.assertEqual(self.times(), {m.site: m.starts_at for m in draft.members})
        whys = {b.site: b.why for b in self.context.store.bookings.all(state="waiting")}
        self.assertEqual(whys, {m.site: m.why for m in draft.members})
        self.assertEqual(self.executor.count, asked, "approving made a timetable of its own")

    def test_the_times_that_were_shown_are_taken_though_better_ones_came_meanwhile(self) -> None:
        later = self.context.clock() + timedelta(days=2)
        gate = Future[None]()
        self.executor.inner.submit(gate.result)
        first = drafts.asked(self.context, NewRollout())
        gate.set_result(None)
        final = drafts.shown(self.context, first.id, 30)
        worse = tuple(
            m.model_copy(update={"starts_at": m.starts_at + timedelta(days=7)})
            for m in first.members
            if m.starts_at is not None
        )
        kept = drafts._drafts(self.context).find(first.id)
        kept.shown[first.id] = first.model_copy(update={"members": worse})
        self.assertNotEqual(first.id, final.id)
        self.assertEqual(self.approve(first.id), sorted(SITES))
        self.assertEqual(self.times(), {m.site: m.starts_at for m in worse})
        self.assertGreater(min(m.starts_at for m in worse if m.starts_at), later)

    def test_a_time_that_is_taken_is_told_and_asked_and_nothing_is_approved(self) -> None:
        draft = drafts.finished(self.context, NewRollout())
        self.freeze("seapink-florists")
        with self.assertRaises(DraftChanged) as raised:
            self.approve(draft.id)
        moved = [line for line in raised.exception.changes if "Seapink Florists can" in line]
        self.assertRegex(moved[0], r"can’t go \w{3} \d+ \w{3}, \d\d:\d\d UTC any more; now \w{3} ")
        self.assertEqual(self.context.store.rollouts.all(), [])
        self.assertEqual(self.times(), {})
        now = drafts.shown(self.context, raised.exception.now, 30)
        self.assertEqual(self.approve(now.id), sorted(SITES))
        self.assertEqual(self.times(), {m.site: m.starts_at for m in now.members})

    def test_a_draft_that_is_read_while_a_window_is_open_goes_a_few_minutes_later(self) -> None:
        draft = drafts.finished(self.context, NewRollout())
        first = min(when for when, _ in drafts.times_of(draft).values())
        self.later += first - self.context.clock() + timedelta(minutes=7)
        self.assertEqual(self.approve(draft.id), sorted(SITES))
        for site, (when, _) in drafts.times_of(draft).items():
            (booking,) = self.context.store.bookings.all(site=site, state="waiting")
            self.assertLessEqual(when, booking.starts_at)
            self.assertLessEqual(booking.starts_at, when + timedelta(minutes=15))
            self.assertGreaterEqual(booking.starts_at, self.context.clock() - timedelta(minutes=1))

    def test_a_draft_whose_night_is_over_is_asked_again(self) -> None:
        draft = drafts.finished(self.context, NewRollout())
        first = min(when for when, _ in drafts.times_of(draft).values())
        self.later += first - self.context.clock() + timedelta(hours=9)
        with self.assertRaises(DraftChanged):
            self.approve(draft.id)

    def test_who_goes_no_more_who_joined_and_other_versions_are_told_line_by_line(self) -> None:
        draft = drafts.finished(self.context, NewRollout(but=("whinchat-radio",)))
        down = self.context.store.sites.get("skerry-light-twin").link.model_copy(
            update={"state": "down", "reason": "no answer"}
        )
        self.context.store.sites.change("skerry-light-twin", link=down)
        later, self.later = self.later, timedelta()  # as its agent's clock goes
        self.site("tarnsey-harbour")
        self.later = later
        hold = NewHold(product="core/millrace", reason="until the season is over")
        policy.hold(self.context, hold, RHONA)
        catch_up(self.context)
        with self.assertRaises(DraftChanged) as raised:
            self.approve(draft.id)
        lines = " ".join(raised.exception.changes)
        self.assertIn(
            "Skerry Light Trust, twin does not go: It can’t be worked on: no answer", lines
        )
        self.assertIn("Tarnsey Harbour Museum can go now as well", lines)
        self.assertIn("Skerry Light Trust takes other versions now: Millrace as it is", lines)

    def test_what_changes_nothing_of_what_was_shown_is_no_matter(self) -> None:
        draft = drafts.finished(self.context, NewRollout(sites=("seapink-florists",)))
        self.freeze("whinchat-radio")
        self.assertFalse(drafts.shown(self.context, draft.id).current)
        self.assertEqual(self.approve(draft.id), ["seapink-florists"])

    def test_a_site_can_be_left_out_and_is_kept_as_such(self) -> None:
        draft = drafts.finished(self.context, NewRollout())
        with self.assertRaises(Refused):
            self.approve(draft.id, without=("nowhere",))
        rollout = rollouts.approve(
            self.context, ApproveRollout(draft=draft.id, without=("whinchat-radio",)), RHONA
        )
        self.assertNotIn("whinchat-radio", {m.site for m in rollout.members})
        out = {site: o.text for o in rollout.stays_out for site in o.sites}
        self.assertEqual(out["whinchat-radio"], "Left out when this was approved.")

    def test_a_draft_that_is_gone_and_words_that_a_draft_says_itself_are_refused(self) -> None:
        with self.assertRaises(DraftGone):
            self.approve("0123456789ab")
        draft = drafts.finished(self.context, NewRollout())
        with self.assertRaises(Refused) as raised:
            self.approve(draft.id, sites=("seapink-florists",), waves=2)
        self.assertIn("leave out sites and waves", str(raised.exception))
        self.assertEqual(self.context.store.rollouts.all(), [])


class Ready(WithDrafts):
    """What could be booked is made again only where something changed that it hangs on."""

    def test_a_note_a_token_and_a_line_of_the_ledger_touch_nothing(self) -> None:
        drafts.catch_up(self.context)
        before = drafts.fleet(self.context)
        asked = self.executor.count
        marks.note(self.context, "seapink-florists", "us", NewNote(text="call Ives"), RHONA)
        accounts.ensure_account(self.context, "ives", "Ives Penrose")
        accounts.make_token(self.context, "ives", "a wall screen")
        self.context.record("Ives Penrose", "looked out of the window", "fleet")
        self.assertFalse(drafts.renew(self.context))
        self.assertEqual((drafts.fleet(self.context), self.executor.count), (before, asked))

    def test_what_leaves_the_night_book_as_it_was_makes_no_timetable(self) -> None:
        drafts.catch_up(self.context)
        asked = self.executor.count
        policy.hold(self.context, NewHold(product="theme/capstan", reason="a test"), RHONA)
        before = self.fleet()
        self.assertFalse(before[1])
        last = self.context.store.events.last()
        self.assertTrue(drafts.renew(self.context))
        after = self.fleet()
        self.assertTrue(after[1])
        self.assertEqual(self.executor.count, asked)
        self.assertEqual(drafts.times_of(after[0]), drafts.times_of(before[0]))
        told = self.context.store.events.after(last)
        self.assertIn(("draft", "fleet"), [(e.kind, e.subject) for e in told])

    def test_what_changes_it_is_shown_old_until_it_is_worked_out(self) -> None:
        drafts.catch_up(self.context)
        before = self.fleet()
        self.freeze("seapink-florists")
        gate = Future[None]()
        self.executor.inner.submit(gate.result)
        self.assertTrue(drafts.renew(self.context))
        self.assertEqual(drafts.fleet(self.context), (before[0], False))
        self.assertFalse(drafts.renew(self.context), "it was begun twice")
        gate.set_result(None)
        drafts.catch_up(self.context)
        after = self.fleet()
        self.assertTrue(after[1])
        self.assertNotEqual(drafts.times_of(after[0]), drafts.times_of(before[0]))

    def test_times_that_have_passed_are_made_again(self) -> None:
        drafts.catch_up(self.context)
        before = self.fleet()
        first = min(when for when, _ in drafts.times_of(before[0]).values())
        self.later += first - self.context.clock() + timedelta(minutes=1)
        drafts.catch_up(self.context)
        after = self.fleet()
        self.assertGreaterEqual(min(w for w, _ in drafts.times_of(after[0]).values()), first)

    def test_what_begins_at_once_while_a_window_is_open_is_as_good_for_its_minute(self) -> None:
        now = datetime.now(UTC)
        self.later = now.replace(hour=2, minute=15, second=20) - now + timedelta(days=1)
        drafts.catch_up(self.context)
        first = min(when for when, _ in drafts.times_of(self.fleet()[0]).values())
        self.assertEqual((first.hour, first.minute), (2, 15))
        self.assertTrue(self.fleet()[1])
        self.assertFalse(drafts.renew(self.context))
        self.later += timedelta(minutes=1)
        self.assertTrue(drafts.renew(self.context))

    def test_where_there_is_nothing_to_keep_ready_nobody_waits_and_nothing_is_written(self) -> None:
        for site in SITES:
            retired = self.context.clock()
            self.context.store.sites.change(site, retired_at=retired)
        before = self.context.store.database.generation()
        began = time.monotonic()
        drafts.final(self.context, 30)
        self.assertLess(time.monotonic() - began, 5)
        self.assertFalse(drafts.renew(self.context))
        self.assertEqual(self.context.store.database.generation(), before)
        self.assertTrue(calendar(self.context, None, 7, "UTC").final)

    def test_a_draft_of_everything_is_the_one_that_is_ready(self) -> None:
        drafts.catch_up(self.context)
        asked = self.executor.count
        ready = self.fleet()
        self.assertEqual(drafts.asked(self.context, NewRollout()), ready[0])
        self.assertEqual(self.executor.count, asked)

    def test_it_is_there_no_more_once_all_is_booked(self) -> None:
        drafts.catch_up(self.context)
        rollouts.approve(self.context, NewRollout(), RHONA)
        bookings.book_all(self.context, RHONA)
        drafts.catch_up(self.context)
        after = self.fleet()
        self.assertEqual((after[0].members, after[1]), ((), True))
