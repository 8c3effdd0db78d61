"""What is approved across sites: drafted, in waves, through gates, stopped and gone on with."""

from datetime import UTC, datetime, timedelta
from itertools import pairwise
from unittest import mock

from tests.operations.within import RHONA, WithContext, catch_up, look_again
from windbreak.core.values.bookings import Book
from windbreak.core.values.holds import NewHold
from windbreak.core.values.releases import AnnouncedTask
from windbreak.core.values.rollouts import LeaveOut, NewRollout, OpenGate, Rollout
from windbreak.core.values.sites import Host
from windbreak.documents.rollouts import GateView
from windbreak.links.errors import Unreachable
from windbreak.operations.context import Cache
from windbreak.operations.errors import Refused
from windbreak.operations.findings import findings
from windbreak.operations.planning import policy
from windbreak.operations.runs import runs
from windbreak.operations.scheduling import (
    approving,
    bookings,
    drafting,
    drafts,
    failed_moves,
    gates,
    patch_releases,
    rollouts,
    timetables,
)
from windbreak.operations.sites import tasks, twins
from windbreak.operations.views import rollouts as rollout_views
from windbreak.operations.views import sites as site_views
from windbreak.store.errors import NotFound

SITE, TWIN = "skerry-light", "skerry-light-twin"
MILLRACE = NewRollout(
    product="core/millrace", version="6.4.3", sites=(SITE,), quiet_minutes=60, refresh_twins=True
)


class Crash(BaseException):
    """Our process ends here."""


class WithRollouts(WithContext):
    def tended(self, rollout: int) -> Rollout:
        rollouts.tend(self.context)
        timetables.keep(self.context)
        return self.context.store.rollouts.get(rollout)

    def run_what_is_booked(self, site: str) -> str:
        (booking,) = self.context.store.bookings.all(site=site, state="waiting")
        run = runs.start(self.context, booking.plan, "Rhona Vale", booking=booking.id)
        return runs.carry_out(self.context, run.id).state

    def standing(self, rollout: int) -> str:
        return rollout_views.story(self.context, rollout).standing

    def states(self, rollout: int) -> dict[str, str]:
        return {m.site: m.state for m in rollout_views.story(self.context, rollout).members}


class WithOneSite(WithRollouts):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        self.site(SITE)
        self.site(TWIN)
        rollout = rollouts.approve(self.context, MILLRACE, RHONA)
        self.rollout = rollout.id
        self.assertEqual(rollout.state, "refreshing")
        self.assertEqual(self.context.store.bookings.all(), [])
        assert rollout.task is not None  # the twin is refreshed first
        tasks.carry_out(self.context, rollout.task)
        self.assertEqual(self.tended(self.rollout).state, "going")

    def gate(self) -> str:
        return self.only_gate().state

    def only_gate(self) -> GateView:
        (gate,) = rollout_views.story(self.context, self.rollout).gates
        return gate


class ToTheEnd(WithOneSite):
    def test_the_site_follows_when_the_twin_did_well_and_the_quiet_time_passed(self) -> None:
        booked = {b.site: b for b in self.context.store.bookings.all(state="waiting")}
        self.assertEqual(set(booked), {SITE, TWIN})
        ends = booked[TWIN].starts_at + timedelta(minutes=booked[TWIN].minutes + 60)
        self.assertGreaterEqual(booked[SITE].starts_at, ends)
        self.assertEqual(self.gate(), "waits")
        self.assertIsNone(self.only_gate().quiet_since)
        self.assertIn("waits for Skerry Light Trust, twin", gates.shut(self.context, booked[SITE]))
        self.assertEqual(self.standing(self.rollout), "0 of 2 sites are done, 2 are booked.")
        self.assertEqual(self.run_what_is_booked(TWIN), "done")
        self.assertEqual(self.standing(self.rollout), "1 of 2 sites is done, 1 is booked.")
        self.tended(self.rollout)
        self.assertEqual(self.gate(), "quiet")
        (ended,) = [run.ended_at for run in self.context.store.runs.all(site=TWIN)]
        self.assertEqual(self.only_gate().quiet_since, ended)
        (site,) = self.context.store.bookings.all(site=SITE, state="waiting")
        self.assertIn("opens", gates.shut(self.context, site))
        self.later = timedelta(minutes=61)
        self.assertEqual(self.gate(), "open")
        self.assertEqual(gates.shut(self.context, site), "")
        self.later = timedelta()
        self.assertEqual(self.run_what_is_booked(SITE), "done")
        ended = self.tended(self.rollout)
        self.assertEqual((ended.state, ended.text), ("ended well", "All done: 2 sites."))
        catch_up(self.context)
        rows = {row.id: row for row in site_views.summaries(self.context)}
        self.assertEqual(rows[SITE].moves["core"], 0)


class OneSite(WithOneSite):
    def test_a_site_does_not_begin_while_its_gate_is_shut(self) -> None:
        (site,) = self.context.store.bookings.all(site=SITE, state="waiting")
        self.later = site.starts_at - datetime.now(UTC) + timedelta(seconds=1)
        self.assertNotIn(SITE, [b.site for b in bookings.startable(self.context)])
        self.later += timedelta(hours=5)  # its window is over
        self.assertEqual(list(bookings.startable(self.context)), [])
        missed = self.context.store.bookings.get(site.id)
        self.assertEqual(missed.state, "missed")
        self.assertIn("the gate of Skerry Light Trust’s twin waits for", missed.why)
        timetables.keep(self.context)
        (again,) = self.context.store.bookings.all(site=SITE, state="waiting")
        self.assertGreater(again.starts_at, self.context.clock())

    def test_a_twins_run_that_does_not_end_well_shuts_the_gate_until_a_word(self) -> None:
        hold = NewHold(product="core/millrace", site=TWIN, reason="wait")
        policy.hold(self.context, hold, RHONA)
        self.assertEqual(self.run_what_is_booked(TWIN), "stopped")
        self.tended(self.rollout)
        self.assertEqual(self.gate(), "wants a word")
        self.assertIsNotNone(self.only_gate().quiet_since)
        (site,) = self.context.store.bookings.all(site=SITE, state="waiting")
        self.assertIn("wants a word", gates.shut(self.context, site))
        with self.assertRaises(Refused) as caught:
            rollouts.open_gate(self.context, self.rollout, OpenGate(gate="canaries"), RHONA)
        self.assertIn(SITE, str(caught.exception))
        how = OpenGate(gate=SITE, why="the hold is of the twin alone")
        rollouts.open_gate(self.context, self.rollout, how, RHONA)
        self.later = timedelta(minutes=61)
        self.assertEqual(gates.shut(self.context, site), "")
        self.assertIn("Opened by Rhona Vale", rollout_views.story(
            self.context, self.rollout).gates[0].text)  # fmt: skip
        with self.assertRaises(Refused):
            rollouts.open_gate(self.context, self.rollout, how, RHONA)

    def test_stopped_by_a_person_it_withdraws_what_it_booked_and_goes_on_when_told(self) -> None:
        stopped = rollouts.stop(self.context, self.rollout, "until Monday", RHONA)
        self.assertEqual(stopped.state, "stopped")
        self.assertEqual(self.context.store.bookings.all(state="waiting"), [])
        self.assertEqual(self.context.store.plans.approved(), {})
        timetables.keep(self.context)
        self.assertEqual(self.context.store.bookings.all(state="waiting"), [])
        with self.assertRaises(Refused):
            rollouts.stop(self.context, self.rollout, "", RHONA)
        again = rollouts.go_on(self.context, self.rollout, "Monday", RHONA)
        self.assertEqual(again.state, "going")
        booked = {b.site for b in self.context.store.bookings.all(state="waiting")}
        self.assertEqual(booked, {SITE, TWIN})
        self.assertEqual(self.states(self.rollout), {SITE: "booked", TWIN: "booked"})

    def test_what_a_person_takes_out_is_out_and_the_rest_goes(self) -> None:
        (twin,) = self.context.store.bookings.all(site=TWIN, state="waiting")
        bookings.withdraw(self.context, twin.id, RHONA)
        self.tended(self.rollout)
        self.assertEqual(self.states(self.rollout), {SITE: "booked", TWIN: "left out"})
        self.assertEqual(rollout_views.story(self.context, self.rollout).gates, ())
        out = rollouts.leave_out(self.context, self.rollout, LeaveOut(site=SITE, why="x"), RHONA)
        self.assertEqual(out.going, ())
        ended = self.tended(self.rollout)
        self.assertEqual((ended.state, ended.text), ("stopped", "No site is left in it."))
        self.assertEqual(self.context.store.bookings.all(state="waiting"), [])

    def test_the_same_sites_are_in_no_second_rollout(self) -> None:
        with self.assertRaises(Refused) as caught:
            rollouts.approve(self.context, MILLRACE, RHONA)
        self.assertEqual(caught.exception.code, "nothing-to-do")
        self.assertIn("2 sites booked before", str(caught.exception))

    def test_a_twin_that_can_not_be_refreshed_ends_it(self) -> None:
        rollouts.stop(self.context, self.rollout, "", RHONA)
        rollout = rollouts.approve(self.context, MILLRACE, RHONA)
        assert rollout.task is not None
        with mock.patch.object(twins, "refresh", side_effect=Unreachable("it is away")):
            tasks.carry_out(self.context, rollout.task)
        ended = self.tended(rollout.id)
        self.assertEqual(ended.state, "stopped")
        self.assertIn("it is away", ended.text)
        self.assertEqual(self.context.store.bookings.all(state="waiting"), [])

    def test_a_booking_dies_with_its_plan_and_says_so(self) -> None:
        (site,) = self.context.store.bookings.all(site=SITE, state="waiting")
        self.approved(SITE)  # another plan takes its place
        timetables.keep(self.context)
        dead = self.context.store.bookings.get(site.id)
        self.assertEqual((dead.state, dead.why), ("withdrawn", "its plan is replaced"))
        said = [e.why for e in self.context.store.ledger.all(subject=SITE)]
        self.assertIn("its plan is replaced", said)
        self.tended(self.rollout)
        self.assertEqual(self.states(self.rollout)[SITE], "left out")


class Fleet(WithRollouts):
    """Five sites: one with a twin, three that share what canaries are for."""

    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        for site in (SITE, TWIN, "tarnsey-harbour", "whinchat-radio", "seapink-florists"):
            self.site(site)

    def everything(self, **how: object) -> Rollout:
        return rollouts.approve(self.context, NewRollout.model_validate(how), RHONA)

    def test_a_draft_writes_nothing_and_says_who_goes_and_who_does_not(self) -> None:
        self.context.store.sites.change(
            "seapink-florists",
            link=self.context.store.sites.get("seapink-florists").link.model_copy(
                update={"state": "down", "reason": "no answer"}
            ),
        )
        before = self.context.store.database.generation()
        draft = drafts.finished(self.context, NewRollout())
        self.assertEqual(self.context.store.database.generation(), before)
        waves = {m.site: m.wave for m in draft.members}
        self.assertEqual(waves[TWIN], "twin")
        self.assertEqual(set(waves), {SITE, TWIN, "tarnsey-harbour", "whinchat-radio"})
        (out,) = draft.stays_out
        self.assertEqual(out.sites, ("seapink-florists",))
        self.assertIn("no answer", out.text)
        placed = {m.site: m for m in draft.members}
        for member in draft.members:
            self.assertIsNotNone(member.starts_at, member.why)
            self.assertEqual(sum(member.moves.values()), len(member.targets))
        ends = placed[TWIN].starts_at + timedelta(minutes=placed[TWIN].minutes + 20 * 60)
        self.assertGreaterEqual(placed[SITE].starts_at, ends)

    def test_who_was_shown_to_stay_out_is_kept_with_the_reason_and_does_not_go(self) -> None:
        down = self.context.store.sites.get("seapink-florists").link.model_copy(
            update={"state": "down", "reason": "no answer"}
        )
        self.context.store.sites.change("seapink-florists", link=down)
        beside = ("seapink-florists", "whinchat-radio")
        rollout = self.everything(sites=(SITE, TWIN, "whinchat-radio"), beside=beside)
        self.assertEqual({m.site for m in rollout.members}, {SITE, TWIN})
        why = {site: out.text for out in rollout.stays_out for site in out.sites}
        self.assertEqual(set(why), set(beside))
        self.assertIn("no answer", why["seapink-florists"])
        self.assertIn("not ready yet", why["whinchat-radio"])
        with self.assertRaises(NotFound):
            self.everything(sites=(SITE,), beside=("nowhere",))

    def test_a_crash_while_it_is_approved_leaves_nobody_behind_and_nothing_twice(self) -> None:
        real, done = approving.approve, []

        def crashes(*args: object, **more: object) -> object:
            if len(done) == 2:
                raise Crash
            done.append(1)
            return real(*args, **more)  # type: ignore[arg-type]

        with mock.patch.object(approving, "approve", crashes), self.assertRaises(Crash):
            self.everything()
        (rollout,) = self.context.store.rollouts.all()
        self.assertEqual(self.context.store.bookings.all(), [])
        self.context.cache = Cache()  # another process
        after = self.tended(rollout.id)
        self.assertEqual({m.site for m in after.going}, {m.site for m in rollout.members})
        booked = [b.site for b in self.context.store.bookings.all(state="waiting")]
        self.assertEqual(sorted(booked), sorted(m.site for m in after.going))
        approved = self.context.store.plans.all(state="approved")
        self.assertEqual(sorted(p.site for p in approved), sorted(booked))
        replaced = self.context.store.plans.all(state="replaced")
        self.assertEqual(replaced, [])

    def test_what_goes_is_booked_as_it_was_drafted(self) -> None:
        draft = drafts.finished(self.context, NewRollout())
        rollout = self.everything()
        booked = {b.site: b.starts_at for b in self.context.store.bookings.all(state="waiting")}
        self.assertEqual(booked, {m.site: m.starts_at for m in draft.members})
        self.assertEqual({m.site for m in rollout.going}, set(booked))

    def test_canaries_go_first_and_the_rest_waits_for_them(self) -> None:
        rollout = self.everything(canaries=("seapink-florists",), quiet_minutes=60)
        waves = {m.site: m.wave for m in rollout.members}
        self.assertEqual(waves["seapink-florists"], "canary")
        booked = {b.site: b for b in self.context.store.bookings.all(state="waiting")}
        first = booked["seapink-florists"]
        ends = first.starts_at + timedelta(minutes=first.minutes + 60)
        for site in (SITE, "tarnsey-harbour", "whinchat-radio"):
            if not next(m for m in rollout.members if m.site == site).urgent:
                self.assertGreaterEqual(booked[site].starts_at, ends, site)
        tarnsey = booked["tarnsey-harbour"]
        self.assertIn("the gate of the canaries", gates.shut(self.context, tarnsey))

    def test_the_rest_goes_in_so_many_waves_each_after_the_one_before(self) -> None:
        asked = NewRollout(canaries=(), waves=2, quiet_minutes=60, but=(SITE, TWIN))
        draft = drafts.finished(self.context, asked)
        turns = {m.site: m.turn for m in draft.members if not m.urgent}
        self.assertEqual(sorted(turns.values()), [1, 2, 2], turns)
        rollout = rollouts.approve(self.context, asked, RHONA)
        booked = {b.site: b for b in self.context.store.bookings.all(state="waiting")}
        (first,) = [booked[site] for site, turn in turns.items() if turn == 1]
        ends = first.starts_at + timedelta(minutes=first.minutes + 60)
        for site in (site for site, turn in turns.items() if turn == 2):
            self.assertGreaterEqual(booked[site].starts_at, ends)
            self.assertIn("the gate before wave 2", gates.shut(self.context, booked[site]))
        (gate,) = rollout_views.story(self.context, rollout.id).gates
        self.assertEqual((gate.id, gate.label, gate.state), ("wave-2", "Wave 1", "waits"))
        self.assertEqual(self.run_what_is_booked(first.site), "restored")
        self.tended(rollout.id)
        (gate,) = rollout_views.story(self.context, rollout.id).gates
        self.assertEqual(gate.state, "wants a word")
        self.later = timedelta(minutes=61)
        rollouts.open_gate(self.context, rollout.id, OpenGate(gate="wave-2"), RHONA)
        for site in (site for site, turn in turns.items() if turn == 2):
            self.assertEqual(gates.shut(self.context, booked[site]), "")

    def test_waves_grow_and_none_is_empty(self) -> None:
        for count, waves, wanted in (
            (1, 3, [1]),
            (3, 3, [1, 2, 3]),
            (7, 3, [1, 2, 2, 3, 3, 3, 3]),
            (4, 1, [1, 1, 1, 1]),
        ):
            with self.subTest(count=count, waves=waves):
                self.assertEqual(drafting.turns(count, waves), wanted)

    def test_one_that_goes_wrong_stops_its_like_until_somebody_decides(self) -> None:
        rollout = self.everything(sites=("whinchat-radio", "tarnsey-harbour"), canaries=())
        (whinchat,) = self.context.store.bookings.all(site="whinchat-radio", state="waiting")
        plan = self.context.store.plans.get(whinchat.plan)
        self.assertEqual(self.run_what_is_booked("whinchat-radio"), "put back")
        failed = failed_moves.waiting(self.context)
        self.assertTrue(failed)
        self.assertTrue({(m.product, m.version) for m in failed} <= plan.targets.items())
        # Another site is to make the very same move: it loses its place, and says why.
        like = self.context.store.plans.get(
            self.context.store.bookings.all(site="tarnsey-harbour", state="waiting")[0].plan
        )
        same = failed[0].model_copy(
            update={
                "id": failed_moves.move_id(*next(iter(like.targets.items()))),
                "product": next(iter(like.targets)),
                "version": next(iter(like.targets.values())),
            }
        )
        self.context.store.failed_moves.put(same)
        self.tended(rollout.id)
        self.assertEqual(self.context.store.bookings.all(state="waiting"), [])
        (left,) = timetables.left_out(self.context)
        self.assertIn("failed on Whinchat Radio", left["text"])
        new = NewRollout(sites=("tarnsey-harbour",), canaries=())
        drafted = drafting.drafted(self.context, new, rollout.id).draft
        self.assertEqual(drafted.members, ())  # it is given no time, and is told why
        self.assertIn("failed on Whinchat Radio", drafted.stays_out[0].text)
        with self.assertRaises(NotFound):
            failed_moves.let_go(self.context, "plugin/oarlock", "99", "", RHONA)
        failed_moves.let_go(self.context, same.product, same.version, "the editor", RHONA)
        self.assertEqual(failed_moves.waiting(self.context), [])  # those of one step go together
        self.tended(rollout.id)
        (again,) = self.context.store.bookings.all(state="waiting")
        self.assertEqual(again.site, "tarnsey-harbour")
        with self.assertRaises(Refused):
            failed_moves.let_go(self.context, same.product, same.version, "", RHONA)

    def test_what_failed_for_the_sites_own_sake_stops_nobody_else(self) -> None:
        plan = self.approved("seapink-florists")
        run = runs.start(self.context, plan.id, "Rhona Vale")
        for code, count in (("no-room", 0), ("busy", 0), ("breaks-site", 1)):
            failed_moves.note(self.context, run, plan.plan.steps[0], code)
            self.assertEqual(len(failed_moves.waiting(self.context)), count, code)

    def test_the_same_plan_is_made_anew_when_the_site_came_on_by_itself(self) -> None:
        self.everything(sites=("tarnsey-harbour",))
        (booking,) = self.context.store.bookings.all(site="tarnsey-harbour", state="waiting")
        plan = self.context.store.plans.get(booking.plan)
        step = plan.plan.steps[0]
        inventory = self.context.store.inventories.get("tarnsey-harbour")
        there = {m.product: m.to for m in step.moves}
        self.context.store.inventories.put(
            inventory.model_copy(
                update={
                    "components": tuple(
                        c.model_copy(update={"version": there.get(c.product, c.version)})
                        for c in inventory.components
                    )
                }
            )
        )
        timetables.keep(self.context)
        (now,) = self.context.store.bookings.all(site="tarnsey-harbour", state="waiting")
        self.assertEqual(now.id, booking.id)
        anew = self.context.store.plans.get(now.plan)
        self.assertNotEqual(anew.id, plan.id)
        self.assertEqual((anew.state, anew.approval), ("approved", plan.approval))
        self.assertLess(len(anew.plan.steps), len(plan.plan.steps))
        self.assertEqual(self.context.store.plans.get(plan.id).state, "replaced")

    def test_hosts_bear_no_more_than_they_may(self) -> None:
        for host in self.context.store.hosts.all():
            self.context.store.hosts.put(host.model_copy(update={"at_once": 1}))
        self.everything(canaries=())
        booked = self.context.store.bookings.all(state="waiting")
        host_of = {s.id: s.host for s in self.context.store.sites.live()}
        spans = sorted(
            (host_of[b.site] or b.site, b.starts_at, b.starts_at + timedelta(minutes=b.minutes))
            for b in booked
        )
        for (host, _, ends), (other, begins, _) in pairwise(spans):
            if host == other:
                self.assertLessEqual(ends, begins)

    def test_bad_words_are_refused_with_what_would_be_right(self) -> None:
        for how, text in (
            ({"product": "core/millrace"}, "a release is a product and a version"),
            ({"product": "core/millrace", "version": "6.5", "security": True}, "not both"),
        ):
            with self.assertRaisesRegex(ValueError, text):
                NewRollout.model_validate(how)
        with self.assertRaises(Refused) as caught:
            self.everything(tag="nobody")
        self.assertIn("there is no site of sites tagged nobody", str(caught.exception))
        with self.assertRaises(Refused) as caught:
            self.everything(client="Nobody")
        with self.assertRaises(Refused) as caught:
            self.everything(product="core/millrace", version="99")
        self.assertEqual(caught.exception.code, "nothing-to-do")


class Pins(WithRollouts):
    def test_a_booking_is_pinned_booked_again_and_taken_out(self) -> None:
        self.feeds()
        self.site(SITE)
        self.context.store.hosts.put(Host(id="mole", name="Mole", at_once=1))
        plan = self.approved(SITE)
        booking = bookings.book(self.context, plan.id, Book(), RHONA)
        # In the middle of its window of another day, whatever the hour of the test.
        day = booking.starts_at + timedelta(days=1)
        later = day.replace(hour=2, minute=0, second=0, microsecond=0)
        pinned = bookings.move(self.context, booking.id, Book(at=later), RHONA)
        self.assertEqual((pinned.starts_at, pinned.pinned), (later, True))
        timetables.keep(self.context)
        self.assertEqual(self.context.store.bookings.get(booking.id).starts_at, later)
        again = bookings.again(self.context, booking.id, RHONA)
        self.assertEqual((again.starts_at, again.pinned), (booking.starts_at, False))
        bookings.withdraw(self.context, booking.id, RHONA, "not now")
        timetables.keep(self.context)
        self.assertEqual(self.context.store.bookings.all(state="waiting"), [])
        self.assertEqual(self.context.store.plans.get(plan.id).state, "approved")


class PatchReleases(WithRollouts):
    """They go by the word given for what they mend."""

    SITES = ("tarnsey-harbour", SITE)

    def ended_well(self) -> int:
        """A rollout of Millrace 6.4.3, patch releases and all, that has ended well."""
        self.feeds()
        for site in self.SITES:
            self.site(site)
        new = MILLRACE.model_copy(
            update={
                "sites": self.SITES,
                "canaries": self.SITES[:1],
                "patches_until": self.context.clock().date() + timedelta(days=7),
            }
        )
        rollout = rollouts.approve(self.context, new, RHONA).id
        for site in self.SITES:
            self.assertEqual(self.run_what_is_booked(site), "done")
        self.assertEqual(self.tended(rollout).state, "ended well")
        return rollout

    def appears(self, days: int, tasks: tuple[AnnouncedTask, ...] = ()) -> None:
        """Millrace 6.4.4 was published so many days ago."""
        store = self.context.store.releases
        known = store.get(store.id_of("core/millrace", "6.4.3"))
        day = self.context.clock().date() - timedelta(days=days)
        told = {"version": "6.4.4", "published": day, "title": "Millrace 6.4.4", "tasks": tasks}
        told["id"] = store.id_of("core/millrace", "6.4.4")
        store.put(type(known).model_validate(known.model_dump(by_alias=True) | told))

    def followed(self) -> list[Rollout]:
        with mock.patch.object(approving, "_fetch_packages"):  # its maker has none of it
            patch_releases.tend(self.context)
        return [r for r in self.context.store.rollouts.all() if r.follows == self.first]

    def waiting(self) -> list[str]:
        look_again(self.context)
        every = findings.listed(self.context)
        return [f"{f.headline} {f.text}" for f in every if f.kind == "patch"]

    def test_to_the_same_sites_in_the_same_waves_once_they_have_soaked(self) -> None:
        self.first = self.ended_well()
        self.assertEqual(self.followed(), [])
        with self.subTest("one that changes a database wants a person"):
            self.appears(90, (AnnouncedTask(kind="migrate", text="Drafts move.", by="agent"),))
            self.assertEqual(self.followed(), [])
            (told,) = self.waiting()
            self.assertIn("**Millrace** `6.4.4` waits for your word.", told)
            self.assertIn("changes the database of", told)
        with self.subTest("one that soaks waits"):
            self.appears(days=0)
            self.assertEqual(self.followed(), [])
        with self.subTest("not after the day"):
            self.appears(days=90)
            self.later = timedelta(days=8)
            self.assertEqual(self.followed(), [])
            self.later = timedelta()
        (follows,) = self.followed()
        self.assertEqual((follows.version, follows.made_by), ("6.4.4", RHONA.name))
        waves = {m.site: m.wave for m in follows.going}
        self.assertEqual(waves, {self.SITES[0]: "canary", self.SITES[1]: "rest"})
        self.assertIn(f"approved with rollout {self.first}", follows.why)
        self.assertEqual(len(self.followed()), 1)  # not once more
        self.assertEqual(self.waiting(), [])

    def test_a_day_that_is_past_is_refused(self) -> None:
        new = NewRollout(patches_until=self.context.clock().date() - timedelta(days=1))
        with self.assertRaises(Refused) as caught:
            rollouts.approve(self.context, new, RHONA)
        self.assertIn("is past; today is", str(caught.exception))
