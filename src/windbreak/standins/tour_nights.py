"""The tour of the whole fleet: everything ready approved at once, and its nights played."""

from __future__ import annotations

from datetime import datetime, timedelta
from itertools import pairwise
from zoneinfo import ZoneInfo

from windbreak.core.values.bookings import Booking
from windbreak.core.values.freezes import NewFreeze
from windbreak.core.values.rollouts import ApproveRollout, NewRollout, Rollout
from windbreak.standins.demo import set_up
from windbreak.standins.millrace import FOLDERS
from windbreak.standins.nights import Played, play
from windbreak.standins.seeing import Seeing


class Nights(Seeing):
    """One rollout of everything, from its draft to the mornings after."""

    def play(self) -> None:
        self.changed: list[list[float]] = []
        self.head("The whole demo fleet is set up: 37 sites of 30 clients, in four zones.")
        set_up(self.demo, self.where)
        self.until("its rows are made", lambda: len(self.windbreak.sites()) == len(self.demo.sites))
        rollout = self.approving()
        self.freezing()
        self.nights(rollout)
        self.windbreak.close()

    def approving(self) -> Rollout:
        self.head("Everything that is ready is drafted for the fleet, and approved.")
        draft = self.windbreak.draft_rollout(NewRollout())
        moves = sum(draft.moves.values())
        self.tell(
            f"{moves} moves on {len(draft.members)} sites; {draft.nothing} have nothing to do."
        )
        for out in draft.stays_out:
            self.tell(f"out: {', '.join(out.labels)}: {out.text}")
        canaries = [member.label for member in draft.members if member.wave == "canary"]
        self.tell(f"Canaries: {', '.join(canaries)}: {draft.covered} of {draft.kinds} kinds.")
        self.see("the canaries cover all kinds that sites share", draft.covered == draft.kinds)
        placed = [member for member in draft.members if member.starts_at is not None]
        self.see(f"{len(placed)} have a night, and each says why then", all(m.why for m in placed))
        rollout = self.windbreak.approve_rollout(
            ApproveRollout(draft=draft.id, why="the tour: before the season")
        )
        booked = {booking.site: booking.starts_at for booking in self.windbreak.bookings()}
        self.see(
            "they are booked as they were drafted",
            booked == {member.site: member.starts_at for member in placed},
        )
        for booking in self.windbreak.bookings()[:4]:
            self.tell(f"{booking.site}: {booking.why}")
        return rollout

    def freezing(self) -> None:
        self.head("A client asks for two quiet days: one booking moves, and no other.")
        before = {b.id: b for b in self.windbreak.bookings()}
        last = max(before.values(), key=lambda b: b.starts_at)
        met = next(b for b in before.values() if b.site == "limpet-lane") or last
        frozen = self.windbreak.add_freeze(
            NewFreeze(
                from_=met.starts_at - timedelta(hours=6),
                to=met.starts_at + timedelta(hours=42),
                site=met.site,
                reason="their open days",
            )
        )
        for text in frozen.moved:
            self.tell(f"moved: {text}")
        after = {b.id: b for b in self.windbreak.bookings()}
        moved = [id_ for id_, b in after.items() if b.starts_at != before[id_].starts_at]
        self.see("that one moved, and no other", moved == [met.id])
        self.see(f"it says why: {after[met.id].why}", "their open days" in after[met.id].why)

    def nights(self, rollout: Rollout) -> None:
        self.head("Two nights are played at once; the clock goes from booking to booking.")
        first = min(booking.starts_at for booking in self.windbreak.bookings())
        morning = first.replace(hour=12, minute=0)
        played = self._played(morning)
        self._what_failed(rollout)
        played += self._played(morning + timedelta(days=1))
        runs = [run for event in played for run in event.runs]
        self.see(f"{len(runs)} runs began when they were booked", self._in_time(played))
        begun = [booking for event in played for booking in event.bookings]
        self.see("each in a window of its site", all(map(self._open, begun)))
        self.see("folders changed in the order of the timetable", self._in_order())
        story = self.windbreak.rollout(rollout.id)
        for gate in story.gates:
            if gate.state != "open":
                self.tell(f"gate of {gate.label}: {gate.state}. {gate.text}")

    def _played(self, until: datetime) -> list[Played]:
        """What is booked until then, carried out; folders are looked at as soon as they changed."""
        played = []
        for event in play(self.windbreak, self.demo.clock, until, self.tell):
            self.changed.append(self._changed(event))
            played.append(event)
        return played

    def _what_failed(self, rollout: Rollout) -> None:
        """What was put back stops its like, until somebody decides."""
        story = self.windbreak.rollout(rollout.id)
        bad = {member.site for member in story.members if member.state == "failed"}
        self.see(f"put back: {', '.join(sorted(bad))}", "whinchat-radio-twin" in bad)
        self.until("who would make the same move is not booked", lambda: bool(self._waits(rollout)))
        waits = self._waits(rollout)
        self.tell(f"{len(waits)} sites wait for a word: {', '.join(waits[:6])}, …")
        story = self.windbreak.rollout(rollout.id)
        (failed,) = story.failed
        self.tell(f"Decided: {failed.what} may go on elsewhere, as it is Gangway that breaks it.")
        self.windbreak.let_move_go(failed.product, failed.version, "the tour: it is Gangway 2.7")
        for gate in story.gates:
            if gate.state == "wants a word":
                self.tell(f"The gate of {gate.label} wants a word: {gate.text}")
                self.windbreak.open_gate(rollout.id, gate.id, "the tour: it is Gangway")
        self.windbreak.leave_out(rollout.id, "whinchat-radio", "its twin was put back")

        def all_have_a_night() -> bool:
            members = self.windbreak.rollout(rollout.id).members
            return not any(member.state == "to be booked" for member in members)

        self.until("who waited has a night again", all_have_a_night)
        self.tell("Who waited has a night again.")

    def _waits(self, rollout: Rollout) -> list[str]:
        """The sites that are not booked, as a like move failed elsewhere."""
        members = self.windbreak.rollout(rollout.id).members
        return [m.label for m in members if m.state == "to be booked" and "waits" in m.text]

    def _in_time(self, played: list[Played]) -> bool:
        return all(
            timedelta() <= run.started_at - event.at < timedelta(minutes=5)
            for event in played
            for run in event.runs
        )

    def _open(self, booking: Booking) -> bool:
        """Whether a booking began within the hours of its site, by its site's clock."""
        site = next(site for site in self.demo.sites if site.slug == booking.site)
        local = f"{booking.starts_at.astimezone(ZoneInfo(site.zone)):%H:%M}"
        return site.window[0] <= local < site.window[1]

    def _in_order(self) -> bool:
        """Whether no folder changed before those that were booked earlier had."""
        spans = [(min(some), max(some)) for some in self.changed if some]
        return len(spans) > 1 and all(last <= first for (_, last), (first, _) in pairwise(spans))

    def _changed(self, event: Played) -> list[float]:
        """When the folders changed that the runs of one instant moved."""
        changed = []
        for run in event.runs:
            if run.state != "done":
                continue
            targets = self.windbreak.plan(run.plan).targets
            for component in self.windbreak.inventory(run.site).components:
                kind = component.product.partition("/")[0]
                if component.product in targets and kind in FOLDERS:
                    folder = self.folder(run.site) / FOLDERS[kind] / component.folder
                    changed.append((folder / "component.toml").stat().st_ctime)
        return changed
