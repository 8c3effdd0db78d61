"""The acts of a run, in words: "apply Lee", "check pages, after putting back"."""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType
from typing import Any

from windbreak.core.values.journal import ActKind, RunAct

_LABELS: Mapping[ActKind, str] = {
    ActKind.INVENTORY: "inventory",
    ActKind.PACKAGES: "packages",
    ActKind.OWN_FILES: "the site’s own files",
    ActKind.USUAL_LENGTHS: "usual durations",
    ActKind.BASELINE: "check before the run",
    ActKind.PICTURES_BEFORE: "pictures before",
    ActKind.SNAPSHOT: "snapshot",
    ActKind.UPDATES_PAUSED: "automatic updates",
    ActKind.CACHE_OFF: "cache off",
    ActKind.STEP: "step",
    ActKind.PAGE_UP: "maintenance page up",
    ActKind.PAGE_DOWN: "maintenance page down",
    ActKind.SWITCH_OFF: "switch off",
    ActKind.SWITCH_ON: "switch on",
    ActKind.APPLY: "apply",
    ActKind.CLEAR: "clear leftovers",
    ActKind.MIGRATE: "migrate data",
    ActKind.REGENERATE: "regenerate files",
    ActKind.REGISTER: "register code",
    ActKind.READ_BACK: "read back",
    ActKind.PROBE: "check pages",
    ActKind.WHOLE_INVENTORY: "complete inventory",
    ActKind.PLANNED_ANEW: "rest planned again",
    ActKind.OVERRUN: "past its window",
    ActKind.PUT_BACK: "put back",
    ActKind.WRITTEN_SINCE: "written since the snapshot",
    ActKind.LOST: "lost by the restore",
    ActKind.RESTORE: "restore",
    ActKind.WAITS_FOR_ERRAND: "waits for an errand",
    ActKind.AS_IT_WAS: "compared with before the run",
    ActKind.CACHES_PURGED: "caches purged",
    ActKind.PICTURES_AFTER: "pictures after",
    ActKind.ALARM: "alarm",
    ActKind.FIRST_LOOK: "first check",
    ActKind.MENDED: "remedy",
    ActKind.STATE_ASKED: "state asked",
    ActKind.GIVEN_UP: "given up",
    ActKind.LEFT_TO_PERSON: "left to a person",
    ActKind.NOTHING_KEPT: "nothing kept",
    ActKind.NOT_MADE_ANEW: "not recreated",
    ActKind.FETCHED_AGAIN: "fetched again",
    ActKind.WAITED: "waited for the site",
}


def act_label(act: RunAct[Any], names: Mapping[str, str] = MappingProxyType({})) -> str:
    """An act as a person reads it: "apply Lee, again"; products by their names."""
    words = [str(act.name) if act.kind == ActKind.OTHER else _LABELS[act.kind]]
    if act.kind in (ActKind.STEP, ActKind.READ_BACK, ActKind.WHOLE_INVENTORY, ActKind.OVERRUN):
        words += [str(act.step)] if act.kind == ActKind.STEP else [f"of step {act.step}"]
    if act.product is not None:
        words.append(names.get(act.product, act.product))
    label = " ".join(words)
    if act.name and act.kind != ActKind.OTHER:
        label += f", {act.name}"
    if act.leg > 1:
        label += f", after errand {act.leg - 1}"
    return f"{label}, again" if act.turn > 1 and act.kind != ActKind.FETCHED_AGAIN else label
