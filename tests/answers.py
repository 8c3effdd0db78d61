"""Every answer of the API over the demo fleet, recorded so that two versions can be compared.

    python -m tests.answers record FILE     set the demo up in a new folder, ask everything, keep it
    python -m tests.answers compare A B     what differs; exit status 1 where anything does

Left out of the record is what differs from one start to the next: instants, ports, secrets.
"""

from __future__ import annotations

import argparse
import json
import re
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import quote

import httpx

from windbreak.client import Windbreak
from windbreak.standins.demo import running, set_up

# What a stage writes, so that plans, runs, bookings and rollouts are among the answers too.
RUN = ("skerry-light", "tarnsey-harbour", "whinchat-radio", "seapink-florists")
DRAFT = ("oyster-quay", "pilot-house", "gannet-rock", "ness-ferries", "slipway-boatyard")
# Asked once for each id of a list: the list's address, and the field that is the id.
EACH: tuple[tuple[str, str, tuple[str, ...]], ...] = (
    (
        "/sites",
        "id",
        (
            *("/sites/{}", "/sites/{}/case", "/sites/{}/inventory", "/sites/{}/inventory.cdx.json"),
            *("/sites/{}/outlook", "/sites/{}/verdicts", "/sites/{}/policy", "/sites/{}/plans"),
        ),
    ),
    ("/feeds", "id", ("/feeds/{}",)),
    ("/runs", "id", ("/runs/{}",)),
    ("/rollouts", "id", ("/rollouts/{}",)),
)
ONCE = (
    *("/acts", "/advisories", "/bookings", "/clashes", "/coverage", "/feeds", "/findings"),
    *("/forecasts", "/holds", "/hosts", "/ledger?limit=500", "/licences", "/lockstep", "/products"),
    *("/rollouts", "/rules", "/runs", "/shelf", "/sites?limit=1000", "/today", "/metrics"),
    *("/sites?state=ready", "/sites?runs=trestle<5.1", "/sites.csv", "/accounts"),
)
INSTANT = re.compile(r"\d{4}-\d\d-\d\dT\d\d:\d\d(:\d\d(\.\d+)?)?(Z|[+-]\d\d:\d\d)?")
ADDRESS = re.compile(r"127\.0\.0\.1:\d+")
NOISE = re.compile(r"\b(c-\d+-[0-9a-f]{10}|[0-9a-f]{16,}|agent-[0-9a-z-]+)\b")
CLOCK = re.compile(r"\b\d\d:\d\d\b")


def asked(client: httpx.Client) -> Iterator[tuple[str, Any]]:
    """Each address with its answer."""

    def get(path: str) -> Any:
        answer = client.get(f"/api/v1{path}")
        json_ = "json" in answer.headers.get("content-type", "")
        return {"status": answer.status_code, "body": answer.json() if json_ else answer.text}

    for path in ONCE:
        yield path, get(path)
    for listed, key, paths in EACH:
        more = "?limit=1000" if listed == "/sites" else ""
        for one in get(f"{listed}{more}")["body"]:
            for path in paths:
                yield path.format(one[key]), get(path.format(one[key]))
    for row in get("/products")["body"]:
        id = row["product"]["id"]
        yield f"/products/{id}", get(f"/products/{id}")
        yield f"/products/{id}/releases", get(f"/products/{id}/releases")
        versions = [use["version"] for use in row["versions"]]
        if len(versions) > 1:
            way = f"?start={quote(versions[0])}&end={quote(versions[-1])}"
            yield f"/products/{id}/passed", get(f"/products/{id}/passed{way}")
        for site in [s for use in row["versions"] for s in use["sites"]][:2]:
            yield f"/sites/{site}/verdicts/{id}", get(f"/sites/{site}/verdicts/{id}")
    for plan in range(1, 40):
        answer = get(f"/plans/{plan}")
        if answer["status"] == 200:
            yield f"/plans/{plan}", answer
            yield f"/plans/{plan}/charts", get(f"/plans/{plan}/charts")


def steady(value: Any) -> Any:
    """An answer without what differs from one start to the next."""
    if isinstance(value, dict):
        return {steady(key): steady(one) for key, one in value.items()}
    if isinstance(value, list):
        return [steady(one) for one in value]
    if isinstance(value, str):
        text = NOISE.sub("#", ADDRESS.sub("HOST", INSTANT.sub("INSTANT", value)))
        return CLOCK.sub("TIME", text)
    return value


def record(file: Path) -> None:
    with tempfile.TemporaryDirectory() as folder, running(Path(folder)) as (demo, where):
        set_up(demo, where)
        with Windbreak(demo.address, demo.token("answers")) as windbreak:
            for site in RUN:
                plan = windbreak.draft_plan(site)
                windbreak.approve_plan(plan.id, "recorded")
                windbreak.wait(windbreak.run_plan(plan.id, outside_window=True).id, timeout=120)
            for site in DRAFT:
                windbreak.draft_plan(site)
        headers = {"authorization": f"Bearer {demo.token('answers')}"}
        base = {"base_url": demo.address, "headers": headers, "timeout": 60.0}
        with httpx.Client(trust_env=False, **base) as client:  # type: ignore[arg-type]
            time.sleep(5)  # findings are looked for beside everything else
            found = {path: steady(answer) for path, answer in asked(client)}
    file.write_text(json.dumps(found, indent=1, sort_keys=True, ensure_ascii=False))
    print(f"{len(found)} answers in {file}")


def differences(one: Any, other: Any, place: str) -> Iterator[str]:
    if type(one) is not type(other):
        yield f"{place}: {one!r} -> {other!r}"
    elif isinstance(one, dict):
        for key in sorted(one.keys() | other.keys()):
            if key not in other:
                yield f"{place}.{key}: gone, was {one[key]!r}"
            elif key not in one:
                yield f"{place}.{key}: new, {other[key]!r}"
            else:
                yield from differences(one[key], other[key], f"{place}.{key}")
    elif isinstance(one, list):
        if len(one) != len(other):
            yield f"{place}: {len(one)} -> {len(other)} of them"
        for n, (a, b) in enumerate(zip(one, other, strict=False)):
            yield from differences(a, b, f"{place}[{n}]")
    elif one != other:
        yield f"{place}: {one!r} -> {other!r}"


def compare(one: Path, other: Path) -> int:
    found = list(differences(json.loads(one.read_text()), json.loads(other.read_text()), ""))
    for line in found:
        print(line[:400])
    print(f"{len(found)} differences")
    return 1 if found else 0


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("act", choices=["record", "compare"])
    parser.add_argument("files", nargs="+", type=Path)
    args = parser.parse_args()
    if args.act == "record":
        record(args.files[0])
        return 0
    return compare(*args.files)


if __name__ == "__main__":
    sys.exit(main())
