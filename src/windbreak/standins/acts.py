"""What an agent does to its Millrace site: each call of the link as a method of its name.

Its own state (kept folders, snapshots, what is being unpacked) lies beside the site's folder.
"""

from __future__ import annotations

import base64
import contextlib
import hashlib
import io
import json
import os
import re
import shutil
import sqlite3
import time
import zipfile
import zlib
from collections.abc import Callable
from contextlib import closing
from datetime import date, datetime, timedelta
from pathlib import Path
from typing import Any

from windbreak.links.errors import CallFailed
from windbreak.packages.errors import PackageRefused
from windbreak.packages.examine import examine
from windbreak.standins import clock
from windbreak.standins.faults import Faults
from windbreak.standins.memory import Memory
from windbreak.standins.millrace import FOLDERS, PAGES, Found, Marks, MillraceSite, mark, marks_of

PASS_MINUTES = 5
GRACE_DAYS = 10
PART_BYTES = 4 * 2**20  # of a snapshot in one answer
_SWAP = "swap"  # the kept folder's name, while a restored site takes the place of what was there
PORTIONS = 8  # in which a migration moves what it moves

Args = dict[str, Any]


class Acts:
    """The calls that read and change one site. ``offers`` are the runtimes its host has."""

    def __init__(
        self,
        state: Path,
        site: MillraceSite,
        memory: Memory,
        faults: Faults,
        offers: dict[str, list[str]],
        version: str,
    ) -> None:
        self.state, self.site, self.memory = state, site, memory
        self.faults, self.offers, self.version = faults, offers, version
        self.sign: Callable[[str, int, int], None] = lambda phase, done, of: None
        for folder in ("kept", "snapshots", "staging"):
            (state / folder).mkdir(parents=True, exist_ok=True)
        self.reading: dict[str, Callable[[Args], Args]] = {
            "inventory": self._inventory,
            "look": self._look,
            "own-files": self._own_files,
            "fetch": self._fetch,
        }
        self.changing: dict[str, Callable[[Args], Args]] = {
            "snapshot": self._snapshot,
            "hold": self._hold,
            "bring": self._bring,
            "restore": self._restore,
            "drop": self._drop,
            "apply": self._apply,
            "put-back": self._put_back,
            "switch": self._switch,
            "remove": self._remove,
            "maintenance": self._maintenance,
            "updates": self._updates,
            "caches": self._caches,
            "purge": self._purge,
            "runtime": self._runtime,
            "register": self._register,
            "clear": self._clear,
            "migrate": self._migrate,
            "regenerate": self._regenerate,
        }

    # What is there.

    def _inventory(self, args: Args) -> Args:
        there = self.site.components()
        components = [
            {
                "product": c.product,
                "version": c.version,
                "name": str((c.header or {}).get("name", c.folder)),
                "folder": c.folder,
                "active": self.site.active(c, there),
                "parent": (c.header or {}).get("parent"),
                "maker": (c.header or {}).get("maker"),
            }
            for c in there
        ]
        for product, version in self.site.runtime().items():
            slug = product.partition("/")[2]
            components.append(
                {"product": product, "version": version, "name": slug.title(), "folder": slug}
            )
        registrations = [self._registration(c) for c in there if (c.header or {}).get("asks_code")]
        caches = self._caches_there()
        free = self.faults.all().get("room", shutil.disk_usage(self.site.root).free // 2**20)
        return {
            "components": components,
            "automatic_updates": self.site.setting("automatic_updates") == "on",
            "caches": [name for name, on in caches.items() if on],
            "caches_off": [name for name, on in caches.items() if not on],
            "maintenance": self.site.maintenance.exists(),
            "registrations": registrations,
            "network": len(self.site.members()),
            "members": self._members(),
            "checks": self.site.checks(),
            "complaints": self.site.complaints(),
            "limits": json.loads(self.site.setting("limits", '{"memory_mb": 256}')),
            "agent_version": self.version,
            "held": self._held_now(there, caches),
            "free_mb": int(free),
            "kept_mb": _bytes_in(self.state / "kept", self.state / "snapshots") // 2**20,
        }

    def _held_now(self, there: list[Found], caches: dict[str, bool]) -> list[Args]:
        """What is still otherwise than it was before it was switched; the rest is forgotten."""
        on = {("plugin", c.product): self.site.active(c, there) for c in there}
        on |= {("cache", name): is_on for name, is_on in caches.items()}
        on["updates", ""] = self.site.setting("automatic_updates") == "on"
        on["page", ""] = self.site.maintenance.exists()
        every: list[Args] = json.loads(self.memory.fact("held") or "[]")
        held = [h for h in every if on.get((h["kind"], h["name"]), h["was"]) != h["was"]]
        if held != every:
            self.memory.set("held", json.dumps(held))
        return held

    def _hold_on_to(self, kind: str, name: str, args: Args, *, was: bool) -> None:
        """Note what is switched for a run, with what it was."""
        if was == bool(args["on"]) or was == (kind == "page"):
            return  # nothing is switched; or it is switched back, or on for the first time
        every: list[Args] = json.loads(self.memory.fact("held") or "[]")
        if not any((h["kind"], h["name"]) == (kind, name) for h in every):
            every.append({"kind": kind, "name": name, "was": was, "change": args["change"]})
            self.memory.set("held", json.dumps(every))

    def _members(self) -> list[Args]:
        base = self.site.setting("address")
        return [
            {"name": m.name, "address": f"{base}/{m.slug}/", "on": m.on}
            for m in self.site.members()
        ]

    def _registration(self, component: Found) -> Args:
        """Whether a component that asks for a code has one; without, its grace begins now."""
        product = component.product
        code = self.site.setting(f"code:{product}")
        if code:
            return {"product": product, "state": "registered", "last4": code[-4:]}
        name = f"grace_since:{product}"
        since = self.site.setting(name)
        if not since:
            since = clock.now().date().isoformat()
            self.site.set_setting(name, since)
        until = date.fromisoformat(since) + timedelta(days=GRACE_DAYS)
        if until < clock.now().date():
            return {"product": product, "state": "missing"}
        return {"product": product, "state": "grace", "until": until.isoformat()}

    def _look(self, args: Args) -> Args:
        answer: Args = {
            "counts": self.site.counts(),
            "settings": self.site.settings_digest(),
            "errors": self.site.errors(),
            "written": mark(self.site.marks()),
            "wrote": self._wrote(),
            "pages": [list(page) for page in PAGES],
            "covers": {"/": "front", "/news": "list", "/visit": "page", "/news/1": "news item"},
            "editor": "/editor?page=visit",
        }
        pass_ = self.memory.make_pass(PASS_MINUTES)
        if self.version < "1.2":
            answer["editor"] += f"&pass={pass_}"
        else:
            answer["pass"] = pass_
            if args.get("since"):
                answer["came"] = self.site.came(datetime.fromisoformat(args["since"]))
        return answer

    def _wrote(self) -> dict[str, int]:
        """How many rows came since the last snapshot, by table; at least one where one changed."""
        before: Marks = json.loads(self.memory.fact("marks") or "{}")
        return {
            table: max(1, now[0] - before[table][0])
            for table, now in self.site.marks().items()
            if table in before and before[table] != now
        }

    def _own_files(self, args: Args) -> Args:
        """The files of a component that its package does not hold, or that differ from it."""
        folder, pristine = self._place(args["product"]), dict(args["pristine"])
        files: list[Args] = []
        for file in sorted(folder.rglob("*")) if folder.exists() else ():
            path = file.relative_to(folder).as_posix()
            if not file.is_file() or file.is_symlink():
                continue
            data = file.read_bytes()
            expected = pristine.get(path)
            if expected != hashlib.sha256(data).hexdigest():
                state = "added" if expected is None else "changed"
                own = {"path": path, "bytes": len(data), "state": state}
                files.append(own | {"sha256": hashlib.sha256(data).hexdigest()})
        for path in sorted(pristine):
            if not (folder / path).exists():
                files.append({"path": path, "bytes": 0, "state": "missing"})
        return {"files": files}

    # Snapshots.

    def _snapshot(self, args: Args) -> Args:
        self.faults.room_for("snapshot")
        path = self.state / "snapshots" / f"{args['change']}.zip"
        part = path.with_suffix(".part")
        every = [f for f in sorted(self.site.root.rglob("*")) if f.name != "site.db"]
        with zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED) as archive:
            for n, file in enumerate(every):
                archive.write(file, file.relative_to(self.site.root))
                if n % 200 == 0:
                    self.sign("files", n, len(every))
            self.sign("database", len(every), len(every))
            copy, marks = self._copy_of_database()
            archive.writestr("site.db", copy)
            if self.faults.once("order", "packing"):
                self.site.order()
        self.memory.set("marks", json.dumps(marks))
        part.replace(path)
        with zipfile.ZipFile(path) as archive:
            if archive.testzip() is not None:
                raise CallFailed("checksum", "the snapshot can't be read back")
        return {
            "snapshot": args["change"],
            "files": sum(f.is_file() for f in every) + 1,
            "bytes": path.stat().st_size,
            "written": mark(marks),
        }

    def _copy_of_database(self) -> tuple[bytes, Marks]:
        """The database as it is at one instant, and what had been written by then."""
        copy = self.state / "staging" / "site.db"
        copy.unlink(missing_ok=True)
        with self.site.database() as source, closing(sqlite3.connect(copy)) as target:
            source.backup(target)
            marks = marks_of(target)
        return copy.read_bytes(), marks

    def _snapshot_at(self, name: str) -> Path:
        path = self.state / "snapshots" / f"{name}.zip"
        if path.parent != self.state / "snapshots":
            raise CallFailed("not-permitted", f"{name!r} is no snapshot")
        return path

    def _fetch(self, args: Args) -> Args:
        """A part of a snapshot, for the twin: ``{"data": base64, "bytes": of the whole}``."""
        path = self._snapshot_at(str(args["snapshot"]))
        if not path.exists():
            raise CallFailed("not-permitted", "there is no such snapshot")
        with path.open("rb") as opened:
            opened.seek(int(args["offset"]))
            part = opened.read(PART_BYTES)
        return {"data": base64.b64encode(part).decode(), "bytes": path.stat().st_size}

    def _bring(self, args: Args) -> Args:
        """Take a part of another site's snapshot."""
        path = self._snapshot_at(str(args["snapshot"]))
        part = path.with_suffix(".part")
        have = _take_part(part, args)
        if have == int(args["bytes"]):
            part.replace(path)
        return {"have": have}

    def _restore(self, args: Args) -> Args:
        path = self._snapshot_at(str(args["snapshot"]))
        if not path.exists():
            raise CallFailed("not-permitted", "there is no such snapshot")
        fresh = self.state / "staging" / str(args["change"])
        shutil.rmtree(fresh, ignore_errors=True)
        with zipfile.ZipFile(path) as archive:
            names = archive.namelist()
            for n, name in enumerate(names):
                try:
                    archive.extract(name, fresh)
                except (zipfile.BadZipFile, zlib.error) as error:
                    why = f"the snapshot is damaged: {name} is not what was put in"
                    raise CallFailed("wrong-archive", why) from error
                if n % 200 == 0:
                    self.sign("files", n, len(names))
            for entry in reversed(archive.infolist()):  # folders after what is in them
                had = time.mktime((*entry.date_time, 0, 0, -1))
                (fresh / entry.filename).chmod(entry.external_attr >> 16 & 0o7777)
                os.utime(fresh / entry.filename, (had, had))
        for folder in FOLDERS.values():
            (fresh / folder).mkdir(exist_ok=True)
        if args.get("from"):
            MillraceSite(fresh).move_in(self.site, str(args["from"]))
        if self.site.maintenance.exists():  # it is no part of what comes back
            (fresh / self.site.maintenance.name).write_text("")
        self.faults.orders_come(self.site.order)
        expected = args.get("written") if self.version >= "1.3" else None
        if expected and expected != mark(self.site.marks()):
            shutil.rmtree(fresh)
            raise CallFailed("not-as-expected", "something was written on the site meanwhile")
        aside = self.state / "kept" / str(args["change"])
        self._swap(self.site.root, aside, fresh)
        left = self.faults.all_once("left")
        return {"restored": args["snapshot"], "files": len(names), "left": left}

    def _drop(self, args: Args) -> Args:
        """Let go of snapshots and kept folders by their changes; how much room that made."""
        before = _bytes_in(self.state / "kept", self.state / "snapshots")
        for name in args.get("snapshots", ()):
            self._snapshot_at(str(name)).unlink(missing_ok=True)
        for change in args.get("kept", ()):
            if "/" not in str(change):
                shutil.rmtree(self.state / "kept" / str(change), ignore_errors=True)
        for call in ("apply", "snapshot"):
            self.faults.clear("no-room", call)
        after = _bytes_in(self.state / "kept", self.state / "snapshots")
        return {"freed": before - after}

    # Components.

    def _place(self, product: str) -> Path:
        kind, _, folder = product.partition("/")
        if kind not in FOLDERS or not folder or "/" in folder or folder.startswith("."):
            raise CallFailed("not-permitted", f"{product!r} is no component of a site")
        return self.site.root / FOLDERS[kind] / folder

    def _apply(self, args: Args) -> Args:
        product, version = str(args["product"]), str(args["version"])
        if args["site"] != self.memory.fact("site"):
            raise CallFailed("not-permitted", f"this package is for {args['site']}")
        archive = self._archive(args)
        if len(archive) != args["size"] or hashlib.sha256(archive).hexdigest() != args["sha256"]:
            raise CallFailed("checksum", "the package is not the one that was signed for")
        try:
            examine(archive, product=product, version=version)
        except PackageRefused as error:
            raise CallFailed("wrong-archive", str(error)) from error
        self.faults.room_for("apply")
        self.faults.in_the_way(product)
        target = self._place(product)
        had = target.exists()
        if had and any(c.product == product and c.version == version for c in self._there()):
            raise CallFailed("already-there", f"{product} {version}")
        carry = [*args.get("carry", ()), *self._started_from(product, args.get("from"))]
        if self.faults.of("lie", product):
            return {"version": version, "kept": had}
        staging = self.state / "staging" / str(args["change"])
        self.sign("unpacking", 0, 1)
        with zipfile.ZipFile(io.BytesIO(archive)) as opened:
            opened.extractall(staging)
        if had:
            for path in carry:
                _carry(target, staging / target.name, str(path))
        half = self.faults.once("half", product)
        if half:
            _halve(staging / target.name)
        before = _stamps(target)
        self.faults.write_into(target)
        aside = self.state / "kept" / str(args["change"])
        self._swap(target, aside, staging / target.name)
        self._carry_late(target, aside, before)
        if half:
            raise CallFailed("unknown", f"it broke off while {product} was put in its place")
        shutil.rmtree(staging, ignore_errors=True)
        for effect in ("white", "editor"):
            spoilt = version if self.faults.of(effect, product) else ""
            self.site.set_setting(f"spoilt:{effect}:{product}", spoilt)
        return {"version": version, "kept": had}

    def _started_from(self, product: str, start: Args | None) -> list[str]:
        """The files that were added to what is replaced. Raises CallFailed where that is not what
        the call starts from, or where a file was changed in place that nobody decided on.
        """
        if start is None or self.version < "1.3":
            return []
        there = next((c.version for c in self._there() if c.product == product), None)
        if there != start["version"]:
            why = f"{product} is {there or 'absent'} here, and was to be {start['version']}"
            raise CallFailed("not-as-expected", why)
        if not start["pristine"]:
            return []
        own = self._own_files({"product": product, "pristine": start["pristine"]})["files"]
        for file in own:
            if file["state"] == "changed" and start["decided"].get(file["path"]) != file["sha256"]:
                why = f"{file['path']} of {product} was changed in place since it was looked at"
                raise CallFailed("own-files-changed", why)
        return [file["path"] for file in own if file["state"] == "added"]

    def _carry_late(self, target: Path, aside: Path, before: dict[str, tuple[int, int]]) -> None:
        """Take along what was written right before the swap; where that was an edit, the old folder
        comes back. Raises CallFailed.
        """
        for path, stamp in _stamps(aside).items():
            if path in before and before[path] != stamp:
                self._swap(target, target.with_name(f".new-{target.name}"), aside)
                shutil.rmtree(target.with_name(f".new-{target.name}"), ignore_errors=True)
                raise CallFailed("own-files-changed", f"{path} was changed during the swap")
            if path not in before and not (target / path).exists():
                _carry(aside, target, path)

    def _hold(self, args: Args) -> Args:
        """Take a part of a package, which is held until it is applied."""
        return {"have": _take_part(self._held(args), args)}

    def _held(self, args: Args) -> Path:
        if re.fullmatch(r"[0-9a-f]{64}", str(args["sha256"])) is None:
            raise CallFailed("checksum", "that is no sum of a package")
        return self.state / "staging" / f"held-{args['sha256']}"

    def _archive(self, args: Args) -> bytes:
        """The package that a call brings, whole or in parts before it."""
        if "archive" in args:
            return base64.b64decode(args["archive"])
        held = self._held(args)
        if not held.exists():
            raise CallFailed("fetch-failed", "the package was not brought whole")
        archive = held.read_bytes()
        held.unlink()
        return archive

    def _swap(self, target: Path, aside: Path, fresh: Path) -> None:
        """Put a fresh folder in the place of another, which is kept aside. Where the agent dies in
        between, the other is brought back at the next start.
        """
        note = self.state / _SWAP
        note.write_text(json.dumps({"target": str(target), "aside": str(aside)}))
        if target.exists():
            target.rename(aside)
        if fresh.exists():
            fresh.rename(target)
        note.unlink()

    def _there(self) -> list[Found]:
        return self.site.components()

    def _clear(self, args: Args) -> Args:
        """Clear what is in the way of a product: a leftover folder, a stale record."""
        product, kind = str(args["product"]), str(args["kind"])
        if kind not in ("leftover", "stale"):
            raise CallFailed("not-permitted", f"{kind!r} is nothing that can be cleared")
        self.faults.clear(kind, product)
        return {"cleared": kind}

    def _put_back(self, args: Args) -> Args:
        target = self._place(args["product"])
        kept = self.state / "kept" / str(args["of"])
        if not kept.exists() and not args.get("added"):
            raise CallFailed("not-permitted", "nothing was kept of that change")
        self._swap(target, self.state / "kept" / str(args["change"]), kept)
        return {}

    def _switch(self, args: Args) -> Args:
        if all(there.product != args["product"] for there in self._there()):
            raise CallFailed("not-permitted", f"{args['product']} is no plugin that is there")
        was = self.site.setting(f"on:{args['product']}", "off") == "on"
        self._hold_on_to("plugin", args["product"], args, was=was)
        self.site.switch(args["product"], bool(args["on"]))
        return {"was": was}

    def _remove(self, args: Args) -> Args:
        target = self._place(args["product"])
        if not target.exists():
            raise CallFailed("already-there", f"{args['product']} is gone already")
        target.rename(self.state / "kept" / str(args["change"]))
        return {}

    def _migrate(self, args: Args) -> Args:
        """Move what a component keeps into its new form, portion by portion, with a sign each.

        A migration that was begun is gone on with; one that is not needed ends at once.
        """
        product = str(args["product"])
        component = next((c for c in self._there() if c.product == product), None)
        if component is None:
            raise CallFailed("not-permitted", f"{product} is not there")
        if not self.site.waits_for_migration(component):
            return {"done": 0, "of": 0}
        pause = float(self.faults.of("slow", "portion") or 0)
        for n in range(self.site.moved(product), PORTIONS):
            time.sleep(pause)
            self.site.set_setting(f"moved:{product}", str(n + 1))
            self.sign("moving", n + 1, PORTIONS)
        self.site.migrated(component)
        return {"done": PORTIONS, "of": PORTIONS}

    def _regenerate(self, args: Args) -> Args:
        """Make anew what a component generates from itself."""
        self._somebody_does("regenerate")
        product = str(args["product"])
        component = next((c for c in self._there() if c.product == product), None)
        if component is None:
            raise CallFailed("not-permitted", f"{product} is not there")
        self.site.generate(component)
        return {"product": product, "version": component.version}

    def _somebody_does(self, call: str) -> None:
        if self.faults.of("nobody", call):
            raise CallFailed("not-permitted", f"nothing here does this ({call})")

    def _register(self, args: Args) -> Args:
        self._somebody_does("register")
        product, code = str(args["product"]), str(args["code"])
        if len(code) < 8 or not code.isprintable():
            raise CallFailed("not-permitted", "the maker does not know this code")
        self.site.set_setting(f"code:{product}", code)
        return {"product": product}

    # What is switched.

    def _maintenance(self, args: Args) -> Args:
        was = self.site.maintenance.exists()
        self._hold_on_to("page", "", args, was=was)
        if args["on"]:
            self.site.maintenance.write_text("")
        else:
            self.site.maintenance.unlink(missing_ok=True)
        return {"was": was}

    def _updates(self, args: Args) -> Args:
        was = self.site.setting("automatic_updates") == "on"
        self._hold_on_to("updates", "", args, was=was)
        self.site.set_setting("automatic_updates", "on" if args["on"] else "off")
        return {"was": was}

    def _caches_there(self) -> dict[str, bool]:
        """The caches of the site, by name, and whether each is on."""
        if self.site.setting("on:plugin/lee") != "on":
            return {}
        return {"plugin/lee": self.site.setting("caches") == "on"}

    def _caches(self, args: Args) -> Args:
        """Switch one cache, or all of them; what each was."""
        was = self._caches_there()
        wanted = args.get("name")
        if wanted is not None and wanted not in was:
            raise CallFailed("not-permitted", f"there is no cache {wanted!r} here")
        for name, is_on in was.items():
            self._hold_on_to("cache", name, args, was=is_on)
        if was:
            self.site.set_setting("caches", "on" if args["on"] else "off")
        return {"was": {name: on for name, on in was.items() if wanted in (None, name)}}

    def _purge(self, args: Args) -> Args:
        shutil.rmtree(self.site.cache, ignore_errors=True)
        return {}

    def _runtime(self, args: Args) -> Args:
        product, version = str(args["product"]), str(args["version"])
        if version not in self.offers.get(product, ()):
            raise CallFailed("not-permitted", f"the host does not offer {product} {version}")
        was = self.site.runtime()
        self.site.set_setting("runtime", json.dumps({**was, product: version}))
        return {"was": was.get(product)}


def mend_swap(state: Path) -> None:
    """Bring a folder back where the agent died while another was put in its place."""
    note = state / _SWAP
    if note.exists():
        with contextlib.suppress(ValueError, KeyError):  # it died while it wrote that down
            swap = json.loads(note.read_text())
            target, aside = Path(swap["target"]), Path(swap["aside"])
            if not target.exists() and aside.exists():
                aside.rename(target)
        note.unlink()


def _take_part(part: Path, args: Args) -> int:
    """Write a part of what is sent in parts; the last is proved by the sum of all. How much there
    is now. Raises CallFailed.
    """
    offset = int(args["offset"])
    with part.open("r+b" if offset and part.exists() else "wb") as opened:
        opened.seek(offset)
        opened.truncate()
        opened.write(base64.b64decode(args["data"]))
    have = part.stat().st_size
    if have >= int(args["bytes"]):
        with part.open("rb") as whole:
            if hashlib.file_digest(whole, "sha256").hexdigest() != args["sha256"]:
                part.unlink()
                raise CallFailed("checksum", "it is not what was sent")
    return have


def _carry(old: Path, new: Path, path: str) -> None:
    """Take a file of the site's own from a component's old folder into its new one."""
    source, target = old / path, new / path
    leads_out = ".." in Path(path).parts or Path(path).is_absolute()
    if not path or leads_out or source.is_symlink():
        raise CallFailed("not-permitted", f"{path!r} can't be carried over")
    if not source.is_file():
        return  # it is gone since it was listed
    target.parent.mkdir(parents=True, exist_ok=True)
    shutil.copy2(source, target)


def _stamps(folder: Path) -> dict[str, tuple[int, int]]:
    """When each file of a folder was written last, and its size."""
    files = [f for f in folder.rglob("*") if f.is_file() and not f.is_symlink()]
    stamps = {f.relative_to(folder).as_posix(): f.stat() for f in files}
    return {path: (stat.st_mtime_ns, stat.st_size) for path, stat in stamps.items()}


def _halve(folder: Path) -> None:
    """Leave half of a folder's files, the header not among them."""
    files = sorted(f for f in folder.rglob("*") if f.is_file())
    for file in files[: max(1, len(files) // 2)]:
        file.unlink()
    for header in folder.glob("*.toml"):
        header.unlink()


def _bytes_in(*folders: Path) -> int:
    return sum(f.stat().st_size for d in folders for f in d.rglob("*") if f.is_file())
