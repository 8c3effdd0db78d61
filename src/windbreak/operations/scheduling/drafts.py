"""Drafts of rollouts, each with an id: made at once, improved afterwards, kept to be approved.

A draft is answered with times by plain rules, and improved on the executor until it rests; who
waits for that hears of it by an event. With its final times it has another id, so that approving
takes the times that were shown, whichever these are. The draft of everything that is ready on the
whole fleet is a *view*: it is kept ready for the calendar, and made again by ``renew`` when
something changed that it hangs on. Drafts live as long as the service does; one that is gone is
drafted again.

    asked(context, new)            a draft, at once
    shown(context, id, seconds)    the same, as far as it is by now
    to_approve(context, id)        the same, if it can be approved as it was shown
    fleet(context)                 what could be booked, as it was kept
"""

from __future__ import annotations

import logging
import secrets
import threading
import time
from collections import OrderedDict
from collections.abc import Callable
from concurrent.futures import Executor, Future, ThreadPoolExecutor
from datetime import datetime, timedelta
from functools import partial
from typing import Any

from windbreak.core.values.rollouts import NewRollout
from windbreak.documents.rollouts import DraftMember, RolloutDraft
from windbreak.operations.context import Context
from windbreak.operations.errors import OperationError
from windbreak.operations.scheduling import drafting, nights
from windbreak.operations.scheduling.drafting import Drafted
from windbreak.wording.drafts import changed_lines
from windbreak.wording.timetables import first_document, improved_document

log = logging.getLogger("windbreak.drafts")

# What a draft hangs on: the kinds of change after which it may be another.
HANGS_ON = (
    *("night", "fleet", "host", "plan", "booking", "run", "rollout", "failed-move", "outcome"),
    *("freeze", "watch", "product", "tie", "entitlement", "hold", "rule", "package", "right"),
    *("seat", "licence", "registration", "files", "feeds", "day", "everything"),
)
MOST = 500  # sites of a fleet for which what could be booked is kept ready
_KEPT = 100  # drafts that were asked for
_READING = timedelta(minutes=15)  # in which a draft is read, while a window is open
_PATIENCE = 20.0  # seconds in which the times of a draft are improved


class DraftGone(OperationError):
    """A draft is not kept any more: the service was started again, or it is long ago."""

    code = "draft-gone"

    def __init__(self, id_: str) -> None:
        self.id = id_
        super().__init__(
            f"draft {id_} is not kept any more. Draft it again, look at it, and approve that one"
        )


class DraftChanged(OperationError):
    """What was shown in a draft can't be done as it was shown. ``changes`` tell what is otherwise,
    a line each; ``now`` is the id of the draft as it is now.
    """

    code = "draft-changed"

    def __init__(self, changes: tuple[str, ...], now: str) -> None:
        self.changes, self.now = changes, now
        super().__init__(
            f"something changed since this was shown: {' '.join(changes)} Nothing was approved. "
            "Look at it as it is now, and approve that"
        )


class _Kept:
    """A draft, as it is by now and as it was at first, and what it was made from. ``rests``: its
    times are final; ``generation``: the newest change that it hangs on, when it was made.
    """

    def __init__(self, drafted: Drafted, draft: RolloutDraft, generation: int) -> None:
        self.drafted, self.generation = drafted, generation
        self.draft = draft
        self.shown = {draft.id: draft}  # by id, as it could be seen
        self.rests = threading.Event()

    def improve(self, draft: RolloutDraft) -> None:
        """Show it with other times from now on, under another id."""
        self.draft = draft.model_copy(update={"id": _new_id()})
        self.shown[self.draft.id] = self.draft


def _new_id() -> str:
    return secrets.token_hex(6)


class _Drafts:
    """The drafts of one service, the newest last."""

    def __init__(self) -> None:
        self.guard = threading.Lock()
        self.by_id: OrderedDict[str, _Kept] = OrderedDict()
        self.fleet: _Kept | None = None
        self.renewing = threading.Lock()
        # Where the context has no executor, times are improved here.
        self.here: Executor = ThreadPoolExecutor(1, thread_name_prefix="drafts")

    def keep(self, kept: _Kept) -> None:
        with self.guard:
            for id_ in list(kept.shown):
                self.by_id[id_] = kept
            while len(self.by_id) > _KEPT:
                self.by_id.popitem(last=False)

    def show(self, context: Context, fleet: _Kept) -> None:
        """Show another draft of the fleet. Writes: the calendar hears of it."""
        self.fleet = fleet
        with context.store.transaction():
            context.store.database.mark([("proposals", "")])
            context.note("draft", "fleet", "what could be booked was worked out")
        context.wake()

    def renewed(self, context: Context, fleet: _Kept) -> None:
        """Show the draft of the fleet whose times were improved. Writes."""
        try:
            self.show(context, fleet)
        finally:
            self.renewing.release()

    def find(self, id_: str) -> _Kept:
        with self.guard:
            kept = self.by_id.get(id_)
        if kept is None:
            raise DraftGone(id_)
        return kept


def _drafts(context: Context) -> _Drafts:
    return context.cache.kept("drafts", "", lambda _: _Drafts())


# Drafts that somebody asks for.


def asked(context: Context, new: NewRollout) -> RolloutDraft:
    """What a rollout would do if it were approved now, at once: its times are by plain rules, and
    improved from now on. Reads. Raises NotFound, and Refused where nobody has what is asked for.
    """
    return _asked(context, new).draft


def finished(context: Context, new: NewRollout) -> RolloutDraft:
    """The same with its final times, for whoever has the patience. Reads."""
    kept = _asked(context, new)
    kept.rests.wait()
    return kept.draft


def _asked(context: Context, new: NewRollout) -> _Kept:
    drafts = _drafts(context)
    kept = drafts.fleet
    if kept and kept.draft.asked == new and kept.rests.is_set() and _is_current(context, kept):
        drafts.keep(kept)  # it is what was worked out for the calendar
        return kept
    kept = _made(context, new)
    drafts.keep(kept)
    _improve(context, kept)
    return kept


def shown(context: Context, id_: str, seconds: float = 0.0) -> RolloutDraft:
    """A draft as far as it is by now; where it does not rest yet, after so many seconds at the
    most. Reads. Raises DraftGone.
    """
    kept = _drafts(context).find(id_)
    kept.rests.wait(seconds)
    current = _is_current(context, kept, late=_READING)
    return kept.draft if current else kept.draft.model_copy(update={"current": False})


def _is_current(context: Context, kept: _Kept, late: timedelta = timedelta()) -> bool:
    """Whether nothing changed that a draft hangs on, and none of its times has passed, but for what
    may be ``late``.
    """
    if context.store.database.generation(*HANGS_ON) > kept.generation:
        return False
    now = context.clock()
    return now.date() == kept.draft.made_at.date() and not _has_passed(kept.draft, now - late)


def _has_passed(draft: RolloutDraft, now: datetime) -> bool:
    """Whether some site of a draft was to begin before now: before this minute, as a book begins
    with the minute in which it is made.
    """
    minute = now.replace(second=0, microsecond=0)
    return any(m.starts_at is not None and m.starts_at < minute for m in draft.members)


def _made(context: Context, new: NewRollout) -> _Kept:
    """A draft with times by plain rules. Reads."""
    generation = context.store.database.generation(*HANGS_ON)
    drafted = drafting.drafted(context, new)
    draft = drafted.with_times(first_document(drafted.book))
    return _Kept(drafted, draft.model_copy(update={"id": _new_id()}), generation)


def _improve(context: Context, kept: _Kept, then: Callable[[], None] = lambda: None) -> None:
    """Have the times of a draft improved, do what comes ``then``, and tell whoever waits for it."""
    drafted, id_ = kept.drafted, kept.draft.id
    executor = context.executor or _drafts(context).here

    def take(done: Future[dict[str, Any]]) -> None:
        try:
            kept.improve(drafted.with_times(done.result()))
        except Exception:
            log.exception("the times of draft %s stay as they are by plain rules", id_)
        _drafts(context).keep(kept)
        kept.rests.set()
        try:
            then()
            context.tell("draft", id_, "its times are final")
        except Exception:
            log.exception("nobody heard that the times of draft %s are final", id_)
        finally:
            context.store.close()

    executor.submit(
        improved_document, drafted.book, dict(drafted.names), _PATIENCE
    ).add_done_callback(take)


# Approving what was shown.


def to_approve(context: Context, id_: str) -> RolloutDraft:
    """A draft that can be approved as it was shown: the same sites go to the same versions, in the
    same waves, at the same times. Reads. Raises DraftGone, and DraftChanged with what is otherwise.
    """
    kept = _drafts(context).find(id_)
    draft = kept.shown[id_]
    if _is_current(context, kept):
        return draft
    now = drafting.drafted(context, draft.asked)
    times = {drafting.job_of(site): time for site, time in times_of(draft).items()}
    as_it_is = now.with_times(first_document(nights.staying(now.book, times)))
    if _has_passed(draft, context.clock()):
        draft = _a_little_later(draft, as_it_is)
    changes = changed_lines(draft, as_it_is, partial(_name, context))
    if not changes:
        return draft
    raise DraftChanged(changes, _asked(context, draft.asked).draft.id)


def _a_little_later(draft: RolloutDraft, now: RolloutDraft) -> RolloutDraft:
    """A draft whose first times passed while it was read: what only begins a few minutes later for
    it is no other draft.
    """
    starts = {member.site: member.starts_at for member in now.members}

    def of(member: DraftMember) -> DraftMember:
        was, start = member.starts_at, starts.get(member.site)
        if was is None or start is None or not was < start <= was + _READING:
            return member
        return member.model_copy(update={"starts_at": start})

    return draft.model_copy(update={"members": tuple(map(of, draft.members))})


def _name(context: Context, product: str) -> str:
    kept = context.store.products.find(product)
    return kept.name if kept is not None else product


def times_of(draft: RolloutDraft) -> dict[str, tuple[datetime, str]]:
    """When each site of a draft goes that has a time, and why then."""
    return {m.site: (m.starts_at, m.why) for m in draft.members if m.starts_at is not None}


# What could be booked: the draft of everything that is ready, for the whole fleet.


def fleet(context: Context) -> tuple[RolloutDraft, bool] | None:
    """What could be booked, as it was kept last, and whether that is final and as things are now;
    None where it was not worked out yet. Reads.
    """
    kept = _drafts(context).fleet
    if kept is None:
        return None
    return kept.draft, kept.rests.is_set() and _is_current(context, kept)


def final(context: Context, seconds: float) -> None:
    """Wait until what could be booked is final and as things are now, for so many seconds at the
    most.
    """
    until = time.monotonic() + (seconds if is_kept(context) else 0)
    while (left := until - time.monotonic()) > 0:
        kept = fleet(context)
        if kept is not None and kept[1]:
            return
        with context.news:
            context.news.wait(min(left, 0.1))


def catch_up(context: Context) -> None:
    """Work out what could be booked, and wait until that is final. Reads."""
    renew(context)
    with _drafts(context).renewing:
        return


def is_kept(context: Context) -> bool:
    """Whether what could be booked is kept ready: there are sites, and not too many. Reads."""
    return 0 < context.store.sites.count(retired=False) <= MOST


def is_renewing(context: Context) -> bool:
    """Whether what could be booked is being worked out again."""
    return _drafts(context).renewing.locked()


def renew(context: Context) -> bool:
    """Work out again what could be booked, where something changed that it hangs on; whether that
    was so. Once, however many wait for it. Reads.
    """
    drafts = _drafts(context)
    before = drafts.fleet
    if before is not None and _is_current(context, before):
        return False
    if not is_kept(context):
        return False
    if not drafts.renewing.acquire(blocking=False):
        return False
    try:
        now = _made(context, NewRollout())
        if before is not None and before.rests.is_set() and _take_times(before, now):
            drafts.show(context, now)
            drafts.renewing.release()
            return True
        if before is None:
            drafts.show(context, now)  # times by plain rules, rather than none
        _improve(context, now, partial(drafts.renewed, context, now))
    except BaseException:
        drafts.renewing.release()
        raise
    return True


def _take_times(before: _Kept, now: _Kept) -> bool:
    """Give a draft the times of the one before it, where its night book is the same but for its
    instant and all in it is called the same; whether that is so.
    """
    was, book = before.drafted.book, now.drafted.book
    same = was.model_copy(update={"at": book.at, "horizon": book.horizon}) == book
    if not same or before.drafted.names != now.drafted.names or _has_passed(before.draft, book.at):
        return False
    times = {m.site: {"starts_at": m.starts_at, "why": m.why} for m in before.draft.members}
    members = tuple(m.model_copy(update=times[m.site]) for m in now.draft.members)
    improved = before.draft.improved
    now.improve(now.draft.model_copy(update={"members": members, "improved": improved}))
    now.rests.set()
    return True
