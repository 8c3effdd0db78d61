"""The agent on a Millrace site: signed calls, each change done once, its state kept apart.

The state (keys, nonces, changes, kept folders, snapshots) lies beside the site's folder, not in
it: no snapshot covers it and no restore undoes it.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import io
import json
import secrets
import shutil
import sqlite3
import threading
import time
import zipfile
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from windbreak.links import signing
from windbreak.links.errors import CallFailed
from windbreak.links.millrace import EPOCH, FOR, NOBODY_YET, SERVICE
from windbreak.packages.errors import PackageRefused
from windbreak.packages.examine import examine
from windbreak.standins.millrace import FOLDERS, PAGES, Found, MillraceSite

VERSION = "1.1"
CAN = (
    *("inventory", "look", "change", "snapshot", "restore", "drop", "apply", "put-back"),
    *("switch", "remove", "maintenance", "updates", "caches", "purge", "runtime", "goodbye"),
    *("register", "own-files", "clear"),
)
_NEW = ("register", "own-files", "clear")  # what an agent older than 1.1 can't do
PASS_MINUTES = 5
GRACE_DAYS = 10


def _garbled(how: str | None) -> bytes | None:
    """What is answered in the place of sense: ``faults.json`` may say "deep" or "large"."""
    match how:
        case "deep":
            return b"[" * 100_000
        case "large":
            return b'{"a": "' + b"x" * 40 * 2**20 + b'"}'
    return None


def _origin(url: str) -> tuple[str, str]:
    parts = urlsplit(url)
    return parts.scheme, parts.netloc


def _carry(old: Path, new: Path, path: str) -> None:
    """Take a file of the site's own from a component's old folder into its new one."""
    source, target = old / path, new / path
    if ".." in Path(path).parts or Path(path).is_absolute() or source.is_symlink():
        raise CallFailed("not-permitted", f"{path!r} can't be carried over")
    if not source.is_file():
        return  # it is gone since it was listed
    target.parent.mkdir(parents=True, exist_ok=True)
    shutil.copy2(source, target)


class LinkLineRefused(ValueError):
    """The line that was pasted is not one that the service makes."""


class MillraceAgent:
    """The agent of one site. ``host_offers`` are the runtimes its host can switch it to."""

    def __init__(
        self,
        state: Path,
        site: MillraceSite,
        offers: dict[str, list[str]],
        version: str = VERSION,
    ) -> None:
        self.state, self.site, self.offers, self.version = state, site, offers, version
        self.can = CAN if version == VERSION else tuple(c for c in CAN if c not in _NEW)
        self.lock = threading.Lock()
        for folder in ("kept", "snapshots", "staging"):
            (state / folder).mkdir(parents=True, exist_ok=True)
        with self._database() as db:
            db.executescript(
                "CREATE TABLE IF NOT EXISTS fact (name TEXT PRIMARY KEY, value TEXT);"
                "CREATE TABLE IF NOT EXISTS nonce (nonce TEXT PRIMARY KEY, until TEXT);"
                "CREATE TABLE IF NOT EXISTS pass (pass TEXT PRIMARY KEY, until TEXT);"
                "CREATE TABLE IF NOT EXISTS change (id TEXT PRIMARY KEY, call TEXT, state TEXT,"
                " since TEXT, result TEXT, code TEXT, detail TEXT);"
            )
            # What was under way when the agent died did not end; it is looked at, never trusted.
            db.execute(
                "UPDATE change SET state = 'failed', code = 'unknown', "
                "detail = 'the agent stopped while it was under way' WHERE state = 'running'"
            )
        if self.fact("id") is None:
            self._set("id", f"agent-{secrets.token_hex(8)}")
            self._set("key", signing.key_text(signing.new_key()))

    @contextmanager
    def _database(self) -> Iterator[sqlite3.Connection]:
        path = self.state / "agent.db"
        with closing(sqlite3.connect(path, timeout=10)) as connection, connection:
            yield connection

    def fact(self, name: str) -> str | None:
        with self._database() as db:
            row = db.execute("SELECT value FROM fact WHERE name = ?", (name,)).fetchone()
        return str(row[0]) if row else None

    def _set(self, name: str, value: str | None) -> None:
        with self._database() as db:
            if value is None:
                db.execute("DELETE FROM fact WHERE name = ?", (name,))
            else:
                db.execute("INSERT OR REPLACE INTO fact VALUES (?, ?)", (name, value))

    # What the site's owner does.

    def paste(self, line: str) -> None:
        """Take the one line of the console. Raises LinkLineRefused."""
        bare = "".join(c for c in line if c.isprintable() and not c.isspace())
        try:
            head, _, rest = bare.partition(".")
            said = json.loads(base64.urlsafe_b64decode(rest + "=" * (-len(rest) % 4)))
            if head != "windbreak-link" or not said["code"]:
                raise ValueError("it does not begin with windbreak-link.")
            signing.public_from(said["key"])
        except (ValueError, KeyError, TypeError, signing.SignatureRefused) as error:
            raise LinkLineRefused(f"this is not a line of the console: {error}") from error
        for name in ("address", "epoch", "instance"):
            self._set(name, None)
        self._set("service", said["key"])
        self._set("code", said["code"])

    def unlink(self) -> None:
        """The owner ends the link."""
        for name in ("service", "code", "site", "address", "epoch", "instance"):
            self._set(name, None)

    def renew(self) -> None:
        """The owner gives this copy of a site an id and a key of its own; its link is ended."""
        self.unlink()
        self._set("id", f"agent-{secrets.token_hex(8)}")
        self._set("key", signing.key_text(signing.new_key()))

    def take_pass(self, text: str) -> bool:
        """Whether a looking pass is good; it is good once."""
        now = datetime.now(UTC).isoformat()
        with self._database() as db:
            done = db.execute("DELETE FROM pass WHERE pass = ? AND until > ?", (text, now))
            return done.rowcount == 1

    # What the service asks.

    def answer(
        self, call: str, url: str, headers: dict[str, str], body: bytes
    ) -> tuple[int, bytes, dict[str, str]]:
        """Answer a signed call: status, body, headers. 401 when the key is not the linked one."""
        request = signing.Request("POST", url, headers)
        status, said = self._judged(call, request, body)
        text = _garbled(self.faults().get("answer")) or json.dumps(said).encode()
        key = signing.key_from(self.fact("key") or "")
        return status, text, signing.sign_answer(key, request, status, text, self.now())

    def _judged(
        self, call: str, request: signing.Request, body: bytes
    ) -> tuple[int, dict[str, Any]]:
        try:
            service = self.fact("service")
            if service is None:
                raise signing.SignatureRefused("no key of a service is in place here")
            public = signing.public_from(service)
            names = (FOR, SERVICE, EPOCH)
            purpose: signing.Purpose = "windbreak-agent"
            signing.verify_request(public, request, body, self.now(), self._seen, purpose, names)
        except signing.SignatureRefused as error:
            return 401, {"code": "not-permitted", "detail": str(error)}
        try:
            self._obey(request)
            return 200, self._carry_out(call, json.loads(body))
        except CallFailed as error:
            return 409, {"code": error.failure, "detail": error.detail}
        except (KeyError, ValueError, TypeError) as error:
            return 409, {"code": "unknown", "detail": f"odd arguments: {error}"}

    def now(self) -> datetime:
        """The time by this site's clock, which ``faults.json`` may put wrong: ``clock`` seconds."""
        return datetime.now(UTC) + timedelta(seconds=float(self.faults().get("clock", 0)))

    def _obey(self, request: signing.Request) -> None:
        """Whether a call is for this agent, at its own place, and of the newest driver. Raises
        CallFailed.
        """
        own, wanted = self.fact("id"), request.headers[FOR]
        if wanted != own and not (wanted == NOBODY_YET and self.fact("code")):
            raise CallFailed("not-permitted", "this call is for another agent")
        bound = self.fact("address")
        if bound is not None and _origin(bound) != _origin(request.url):
            raise CallFailed(
                "not-permitted",
                f"this agent is bound to {bound}; a copy of its site needs an id of its own",
            )
        epoch, instance = int(request.headers[EPOCH]), request.headers[SERVICE]
        newest = int(self.fact("epoch") or 0)
        if epoch < newest or (epoch == newest and self.fact("instance") not in (None, instance)):
            raise CallFailed("superseded", f"it obeys epoch {newest}; this call is of {epoch}")
        if epoch > newest or self.fact("instance") is None:
            self._set("epoch", str(epoch))
            self._set("instance", instance)

    def _seen(self, nonce: str, until: datetime) -> bool:
        with self._database() as db:
            db.execute("DELETE FROM nonce WHERE until < ?", (datetime.now(UTC).isoformat(),))
            try:
                db.execute("INSERT INTO nonce VALUES (?, ?)", (nonce, until.isoformat()))
            except sqlite3.IntegrityError:
                return True
        return False

    def _carry_out(self, call: str, args: dict[str, Any]) -> dict[str, Any]:
        reading: dict[str, Callable[[dict[str, Any]], dict[str, Any]]] = {
            "hello": self._hello,
            "inventory": self._inventory,
            "look": self._look,
            "change": lambda a: self._change(a["change"]),
            "goodbye": self._goodbye,
        }
        if "own-files" in self.can:
            reading["own-files"] = self._own_files
        if call in reading:
            return reading[call](args)
        changing: dict[str, Callable[[dict[str, Any]], dict[str, Any]]] = {
            "snapshot": self._snapshot,
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
        }
        if call not in changing or call not in self.can:
            raise CallFailed("not-permitted", f"this agent has no call {call!r}")
        return self._once(call, str(args["change"]), lambda: changing[call](args))

    def _once(self, call: str, change: str, act: Callable[[], dict[str, Any]]) -> dict[str, Any]:
        """Carry out a change, or give again what came of it."""
        known = self._change(change)
        if known["state"] == "done":
            return dict(known["result"])
        if known["state"] == "failed":
            raise CallFailed(known["code"], known["detail"])
        if known["state"] == "running" or not self.lock.acquire(blocking=False):
            raise CallFailed("busy", "another change is under way")
        try:
            since = datetime.now(UTC).isoformat()
            self._note(change, call, "running", since=since)
            self._wait_as_told(call)
            try:
                result = act()
            except CallFailed as error:
                self._note(change, call, "failed", code=error.failure, detail=error.detail)
                raise
            except OSError as error:
                self._note(change, call, "failed", code="not-writable", detail=str(error))
                raise CallFailed("not-writable", str(error)) from error
            self._note(change, call, "done", result=json.dumps(result))
            return result
        finally:
            self.lock.release()

    def _wait_as_told(self, call: str) -> None:
        """A slow host: how many seconds a call takes longer is read from ``faults.json``."""
        time.sleep(float(self.faults().get("slow", {}).get(call, 0)))

    def faults(self) -> dict[str, Any]:
        """What is wrong with this site: ``slow`` calls, ``silent`` (no agent answers), ``down``, a
        ``clock`` so many seconds off, an ``answer`` that is "deep" or "large".
        """
        told = self.state / "faults.json"
        return dict(json.loads(told.read_text())) if told.exists() else {}

    def _note(
        self,
        change: str,
        call: str,
        state: str,
        *,
        since: str = "",
        result: str = "{}",
        code: str = "",
        detail: str = "",
    ) -> None:
        with self._database() as db:
            db.execute(
                "INSERT OR REPLACE INTO change VALUES (?,?,?,?,?,?,?)",
                (change, call, state, since, result, code, detail),
            )

    def _change(self, change: str) -> dict[str, Any]:
        with self._database() as db:
            row = db.execute(
                "SELECT state, result, code, detail FROM change WHERE id = ?", (change,)
            ).fetchone()
        if row is None:
            return {"state": "unknown", "result": {}, "code": None, "detail": ""}
        return {
            "state": row[0],
            "result": json.loads(row[1]),
            "code": row[2] or None,
            "detail": row[3],
        }

    def _hello(self, args: dict[str, Any]) -> dict[str, Any]:
        code = self.fact("code")
        if code is None:
            raise CallFailed("not-permitted", "the code was used already; paste a new line")
        key = signing.key_from(self.fact("key") or "")
        agent, public = self.fact("id") or "", signing.public_text(key)
        text = f"{agent}.{public}.{args['nonce']}".encode()
        proof = hmac.new(code.encode(), text, hashlib.sha256).hexdigest()
        self._set("site", str(args["site"]))
        self._set("address", str(args["address"]))
        self._set("code", None)
        return {
            "agent_id": agent,
            "public_key": public,
            "proof": proof,
            "agent_version": self.version,
            "can": self.can,
        }

    def _goodbye(self, args: dict[str, Any]) -> dict[str, Any]:
        self.unlink()
        return {}

    def _inventory(self, args: dict[str, Any]) -> dict[str, Any]:
        known = self.site.components()
        components = [
            {
                "product": c.product,
                "version": c.version,
                "name": str((c.header or {}).get("name", c.folder)),
                "folder": c.folder,
                "active": self.site.active(c, known),
                "parent": (c.header or {}).get("parent"),
                "maker": (c.header or {}).get("maker"),
            }
            for c in known
        ]
        for product, version in self.site.runtime().items():
            slug = product.partition("/")[2]
            components.append(
                {"product": product, "version": version, "name": slug.title(), "folder": slug}
            )
        registrations = [self._registration(c) for c in known if (c.header or {}).get("asks_code")]
        caches = self._caches_there()
        return {
            "components": components,
            "automatic_updates": self.site.setting("automatic_updates") == "on",
            "caches": [name for name, on in caches.items() if on],
            "caches_off": [name for name, on in caches.items() if not on],
            "maintenance": self.site.maintenance.exists(),
            "registrations": registrations,
            "network": int(self.site.setting("network", "0")),
            "agent_version": self.version,
            "free_mb": shutil.disk_usage(self.site.root).free // 2**20,
        }

    def _registration(self, component: Found) -> dict[str, Any]:
        """Whether a component that asks for a code has one; without, its grace begins now."""
        product = component.product
        code = self.site.setting(f"code:{product}")
        if code:
            return {"product": product, "state": "registered", "last4": code[-4:]}
        name = f"grace_since:{product}"
        since = self.site.setting(name)
        if not since:
            since = datetime.now(UTC).date().isoformat()
            self.site.set_setting(name, since)
        until = date.fromisoformat(since) + timedelta(days=GRACE_DAYS)
        if until < datetime.now(UTC).date():
            return {"product": product, "state": "missing"}
        return {"product": product, "state": "grace", "until": until.isoformat()}

    def _register(self, args: dict[str, Any]) -> dict[str, Any]:
        product, code = str(args["product"]), str(args["code"])
        if len(code) < 8 or not code.isprintable():
            raise CallFailed("not-permitted", "the maker does not know this code")
        self.site.set_setting(f"code:{product}", code)
        return {"product": product}

    def _look(self, args: dict[str, Any]) -> dict[str, Any]:
        pass_ = secrets.token_urlsafe(18)
        until = datetime.now(UTC) + timedelta(minutes=PASS_MINUTES)
        with self._database() as db:
            db.execute("INSERT INTO pass VALUES (?, ?)", (pass_, until.isoformat()))
        return {
            "counts": self.site.counts(),
            "settings": self.site.settings_digest(),
            "errors": self.site.errors(),
            "written": self.site.written(),
            "pages": [list(page) for page in PAGES],
            "editor": f"/editor?page=visit&pass={pass_}",
        }

    def _snapshot(self, args: dict[str, Any]) -> dict[str, Any]:
        path = self.state / "snapshots" / f"{args['change']}.zip"
        part = path.with_suffix(".part")
        files = 0
        with zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED) as archive:
            for file in sorted(self.site.root.rglob("*")):
                if file.is_file() and file.name != "site.db":
                    archive.write(file, file.relative_to(self.site.root))
                    files += 1
            archive.writestr("site.db", self._copy_of_database())
        part.replace(path)
        with zipfile.ZipFile(path) as archive:
            if archive.testzip() is not None:
                raise CallFailed("checksum", "the snapshot can't be read back")
        return {
            "snapshot": args["change"],
            "files": files + 1,
            "bytes": path.stat().st_size,
            "written": self.site.written(),
        }

    def _copy_of_database(self) -> bytes:
        copy = self.state / "staging" / "site.db"
        copy.unlink(missing_ok=True)
        with self.site.database() as source, closing(sqlite3.connect(copy)) as target:
            source.backup(target)
        return copy.read_bytes()

    def _restore(self, args: dict[str, Any]) -> dict[str, Any]:
        path = self.state / "snapshots" / f"{args['snapshot']}.zip"
        if not path.exists():
            raise CallFailed("not-permitted", "there is no such snapshot")
        fresh = self.state / "staging" / str(args["change"])
        with zipfile.ZipFile(path) as archive:
            archive.extractall(fresh)
        for folder in FOLDERS.values():
            (fresh / folder).mkdir(exist_ok=True)
        aside = self.state / "kept" / str(args["change"])
        self.site.root.rename(aside)
        fresh.rename(self.site.root)
        return {"restored": args["snapshot"]}

    def _drop(self, args: dict[str, Any]) -> dict[str, Any]:
        (self.state / "snapshots" / f"{args['snapshot']}.zip").unlink(missing_ok=True)
        for change in args.get("kept", ()):
            shutil.rmtree(self.state / "kept" / str(change), ignore_errors=True)
        return {}

    def _place(self, product: str) -> Path:
        kind, _, folder = product.partition("/")
        if kind not in FOLDERS or not folder or "/" in folder or folder.startswith("."):
            raise CallFailed("not-permitted", f"{product!r} is no component of a site")
        return self.site.root / FOLDERS[kind] / folder

    def _apply(self, args: dict[str, Any]) -> dict[str, Any]:
        if args["site"] != self.fact("site"):
            raise CallFailed("not-permitted", f"this package is for {args['site']}")
        archive = base64.b64decode(args["archive"])
        if len(archive) != args["size"] or hashlib.sha256(archive).hexdigest() != args["sha256"]:
            raise CallFailed("checksum", "the package is not the one that was signed for")
        try:
            examine(archive, product=args["product"], version=args["version"])
        except PackageRefused as error:
            raise CallFailed("wrong-archive", str(error)) from error
        self._stumble(args["product"], args["version"])
        target = self._place(args["product"])
        staging = self.state / "staging" / str(args["change"])
        with zipfile.ZipFile(io.BytesIO(archive)) as opened:
            opened.extractall(staging)
        kept = self.state / "kept" / str(args["change"])
        had = target.exists()
        if had:
            for path in args.get("carry", ()):
                _carry(target, staging / target.name, str(path))
            target.rename(kept)
        (staging / target.name).rename(target)
        shutil.rmtree(staging, ignore_errors=True)
        return {"version": args["version"], "kept": had}

    def _stumble(self, product: str, version: str) -> None:
        """What goes wrong at this site when something is applied. ``faults.json`` names products
        for each: ``leftover``, a half-made folder of an earlier try is in the way; ``stale``, the
        site's record of what can be had is old; both until they are cleared. ``newest``: it says
        that the version is there already, and it is not.
        """
        faults = self.faults()
        for kind, code in (("leftover", "folder-exists"), ("stale", "stale-record")):
            cleared = self.fact(f"cleared:{kind}:{product}")
            if product in faults.get(kind, ()) and not cleared:
                raise CallFailed(code, f"{kind} of {product}")
        here = self._place(product)
        header = next((c for c in self.site.components() if c.product == product), None)
        there = here.exists() and header is not None and header.version == version
        if there or product in faults.get("newest", ()):
            raise CallFailed("already-there", f"{product} {version}")

    def _clear(self, args: dict[str, Any]) -> dict[str, Any]:
        """Clear what is in the way of a product: a leftover folder, a stale record."""
        product, kind = str(args["product"]), str(args["kind"])
        if kind not in ("leftover", "stale"):
            raise CallFailed("not-permitted", f"{kind!r} is nothing that can be cleared")
        shutil.rmtree(self.state / "staging" / f"leftover-{product.replace('/', '-')}", True)
        self._set(f"cleared:{kind}:{product}", "yes")
        return {"cleared": kind}

    def _own_files(self, args: dict[str, Any]) -> dict[str, Any]:
        """The files of a component that its package does not hold, or that differ from it."""
        folder, pristine = self._place(args["product"]), dict(args["pristine"])
        files = []
        for file in sorted(folder.rglob("*")) if folder.exists() else ():
            path = file.relative_to(folder).as_posix()
            if not file.is_file() or file.is_symlink():
                continue
            data = file.read_bytes()
            known = pristine.get(path)
            if known != hashlib.sha256(data).hexdigest():
                state = "added" if known is None else "changed"
                files.append({"path": path, "bytes": len(data), "state": state})
        return {"files": files}

    def _put_back(self, args: dict[str, Any]) -> dict[str, Any]:
        target = self._place(args["product"])
        kept = self.state / "kept" / str(args["of"])
        if not kept.exists() and not args.get("added"):
            raise CallFailed("not-permitted", "nothing was kept of that change")
        if target.exists():
            target.rename(self.state / "kept" / str(args["change"]))
        if kept.exists():
            kept.rename(target)
        return {}

    def _switch(self, args: dict[str, Any]) -> dict[str, Any]:
        was = self.site.setting(f"on:{args['product']}", "off") == "on"
        self.site.switch(args["product"], bool(args["on"]))
        return {"was": was}

    def _remove(self, args: dict[str, Any]) -> dict[str, Any]:
        target = self._place(args["product"])
        if not target.exists():
            raise CallFailed("already-there", f"{args['product']} is gone already")
        target.rename(self.state / "kept" / str(args["change"]))
        return {}

    def _maintenance(self, args: dict[str, Any]) -> dict[str, Any]:
        was = self.site.maintenance.exists()
        if args["on"]:
            self.site.maintenance.write_text("")
        else:
            self.site.maintenance.unlink(missing_ok=True)
        return {"was": was}

    def _updates(self, args: dict[str, Any]) -> dict[str, Any]:
        return self._toggle("automatic_updates", bool(args["on"]))

    def _caches_there(self) -> dict[str, bool]:
        """The caches of the site, by name, and whether each is on."""
        if self.site.setting("on:plugin/lee") != "on":
            return {}
        return {"plugin/lee": self.site.setting("caches") == "on"}

    def _caches(self, args: dict[str, Any]) -> dict[str, Any]:
        """Switch one cache, or all of them; what each was."""
        was = self._caches_there()
        wanted = args.get("name")
        if wanted is not None and wanted not in was:
            raise CallFailed("not-permitted", f"there is no cache {wanted!r} here")
        if was:
            self.site.set_setting("caches", "on" if args["on"] else "off")
        return {"was": {name: on for name, on in was.items() if wanted in (None, name)}}

    def _toggle(self, name: str, on: bool) -> dict[str, Any]:
        was = self.site.setting(name) == "on"
        self.site.set_setting(name, "on" if on else "off")
        return {"was": was}

    def _purge(self, args: dict[str, Any]) -> dict[str, Any]:
        shutil.rmtree(self.site.cache, ignore_errors=True)
        return {}

    def _runtime(self, args: dict[str, Any]) -> dict[str, Any]:
        product, version = str(args["product"]), str(args["version"])
        if version not in self.offers.get(product, ()):
            raise CallFailed("not-permitted", f"the host does not offer {product} {version}")
        was = self.site.runtime()
        self.site.set_setting("runtime", json.dumps({**was, product: version}))
        return {"was": was.get(product)}
