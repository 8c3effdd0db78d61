"""The answers as open documents: windbreak-resolution/1 and windbreak-plan/1.

Source of the formats: docs/reasoning.md. These are what ``windbreak case … --json`` prints.
"""

from __future__ import annotations

from typing import Any

from windbreak.core.values.verdicts import Answer, Blocked, Plan


def resolution_document(answer: Answer, file: str | None = None) -> dict[str, object]:
    """An answer as a windbreak-resolution/1 document."""
    document: dict[str, object] = {"format": "windbreak-resolution/1"}
    if file is not None:
        document["file"] = file
    document["site"] = answer.site
    document["objective"] = answer.objective.model_dump()
    document["verdicts"] = [
        {
            "product": v.product,
            "from": v.from_,
            "to": v.to,
            "newest": v.newest,
            "outcome": v.outcome,
            "blocked": blocked_document(v.blocked) if v.blocked else None,
        }
        for v in answer.verdicts
    ]
    return document


def blocked_document(blocked: Blocked) -> dict[str, object]:
    """Reasons flat, each with its text; empty particulars left out."""
    reasons = []
    for exclusion in blocked.reasons:
        reason: dict[str, Any] = exclusion.reason.model_dump(mode="json", by_alias=True)
        if "facts" in reason:
            reason["facts"] = [
                {k: x for k, x in fact.items() if x is not None} for fact in reason["facts"]
            ]
        reasons.append({**reason, "text": exclusion.text})
    return {
        "version": blocked.version,
        "text": blocked.text,
        "reasons": reasons,
        "unblock": [
            {
                "acts": [a.model_dump(mode="json", exclude_none=True) for a in s.acts],
                "text": s.text,
            }
            for s in blocked.unblock
        ],
    }


def plan_document(plan: Plan, file: str | None = None) -> dict[str, object]:
    """A plan as a windbreak-plan/1 document."""
    document: dict[str, object] = {"format": "windbreak-plan/1"}
    if file is not None:
        document["file"] = file
    document["site"] = plan.site
    document["cost"] = {"combined": plan.combined, "steps": len(plan.steps)}
    document["steps"] = [
        {
            "moves": [
                {"product": m.product, "from": m.from_, "to": m.to, "by": m.by} for m in s.moves
            ],
            "why": s.why,
        }
        for s in plan.steps
    ]
    document["stuck"] = [s.model_dump() for s in plan.stuck]
    return document
