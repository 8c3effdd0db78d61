"""A backup of the whole service, and a restored copy that drives nothing until it may.

A backup is a zip: the database as SQLite copies it while it is in use, the shelf, the recipes,
and, sealed by a passphrase (scrypt, then Fernet), the settings file and the key that secrets are
sealed with. What it holds is listed with sums in ``backup.json`` and checked before
anything is put back.
"""

from __future__ import annotations

import base64
import hashlib
import json
import os
import secrets
import sqlite3
import tempfile
import zipfile
from contextlib import closing
from datetime import datetime
from pathlib import Path
from typing import Any

from cryptography.fernet import Fernet, InvalidToken
from cryptography.hazmat.primitives.kdf.scrypt import Scrypt

from windbreak.operations.errors import Refused
from windbreak.store.store import Store

FORMAT = "windbreak-backup/1"
SHORTEST = 12
SETTINGS = "windbreak.toml"


def backup(data: Path, file: Path, passphrase: str, now: datetime) -> str:
    """Write a backup of a data directory, also while a service runs on it; a sentence.

    Raises Refused when there is nothing to back up, the file is there, or the passphrase short.
    """
    database, key = data / "windbreak.db", data / "seal.key"
    if not database.exists() or not key.exists():
        raise Refused("no-data", f"{data} is no data directory of a service")
    if len(passphrase) < SHORTEST:
        raise Refused("short-passphrase", f"a passphrase has {SHORTEST} signs at least")
    if file.exists():
        raise Refused("file-exists", f"{file} is there already; name another file")
    part = file.with_name(f"{file.name}.part")
    sums: dict[str, str] = {}
    with tempfile.TemporaryDirectory(dir=file.parent) as folder:
        copy = Path(folder) / "windbreak.db"
        with closing(sqlite3.connect(database)) as source, closing(sqlite3.connect(copy)) as target:
            source.backup(target)
        with zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED, allowZip64=True) as opened:
            _put(opened, sums, "windbreak.db", copy.read_bytes())
            _put(opened, sums, "seal.key.sealed", _sealed(key.read_bytes(), passphrase))
            for path in [
                *sorted((data / "shelf").glob("*.zip")),
                *sorted((data / "recipes").glob("*.toml")),
            ]:
                _put(opened, sums, f"{path.parent.name}/{path.name}", path.read_bytes())
            if (data / SETTINGS).exists():  # it may hold the password of the mail server
                settings = _sealed((data / SETTINGS).read_bytes(), passphrase)
                _put(opened, sums, f"{SETTINGS}.sealed", settings)
            head = {"format": FORMAT, "at": now.isoformat(), "sha256": sums}
            opened.writestr("backup.json", json.dumps(head, indent=1))
    part.chmod(0o600)
    part.replace(file)
    return f"{file} holds {len(sums)} files, {file.stat().st_size:,} bytes."


def _put(opened: zipfile.ZipFile, sums: dict[str, str], name: str, content: bytes) -> None:
    opened.writestr(name, content)
    sums[name] = hashlib.sha256(content).hexdigest()


def restore(file: Path, data: Path, passphrase: str, now: datetime) -> str:
    """Make a data directory from a backup; a sentence. Nothing is written unless all of it fits.

    The copy gets an instance id of its own and drives no site until a person says so. Raises
    Refused when the directory is not empty, the file is damaged, or the passphrase is another.
    """
    if data.exists() and any(data.iterdir()):
        raise Refused("not-empty", f"{data} is not empty; name an empty directory")
    if not file.exists():
        raise Refused("no-file", f"there is no file {file}")
    try:
        with zipfile.ZipFile(file) as opened:
            head = json.loads(opened.read("backup.json"))
            content = _checked(opened, head)
    except (OSError, zipfile.BadZipFile, KeyError, ValueError) as error:
        raise Refused("bad-backup", f"{file} is no whole backup of ours: {error}") from error
    key = _opened(content.pop("seal.key.sealed"), passphrase)
    if f"{SETTINGS}.sealed" in content:
        content[SETTINGS] = _opened(content.pop(f"{SETTINGS}.sealed"), passphrase)
    data.parent.mkdir(parents=True, exist_ok=True)
    fresh = Path(tempfile.mkdtemp(dir=data.parent, prefix=f"{data.name}."))
    for name, held in content.items():
        path = fresh / name
        path.parent.mkdir(exist_ok=True)
        path.write_bytes(held)
    handle = os.open(fresh / "seal.key", os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(handle, "wb") as target:
        target.write(key)
    store = Store(fresh / "windbreak.db")
    with store.transaction():
        store.facts.set("instance", secrets.token_hex(8))
        store.facts.set("drives", "no")
        store.facts.set("aside", "restored")
        store.facts.set("restored_at", now.isoformat())
    store.close()
    if data.exists():
        data.rmdir()
    fresh.rename(data)
    return (
        f"{data} is a copy of the service as it was {head['at'][:16]}. It drives no site until "
        f"somebody says so: windbreak take-over, once it serves."
    )


def _checked(opened: zipfile.ZipFile, head: Any) -> dict[str, bytes]:
    if not isinstance(head, dict) or head.get("format") != FORMAT:
        raise ValueError(f"it does not say {FORMAT}")
    content = {}
    for name, sum_ in head["sha256"].items():
        parts = Path(name).parts
        if Path(name).is_absolute() or ".." in parts or len(parts) > 2:
            raise ValueError(f"it holds the path {name!r}")
        content[name] = opened.read(name)
        if hashlib.sha256(content[name]).hexdigest() != sum_:
            raise ValueError(f"{name} is not what it was")
    if not {"windbreak.db", "seal.key.sealed"} <= content.keys():
        raise ValueError("the database or the key is missing")
    return content


def _fernet(passphrase: str, salt: bytes) -> Fernet:
    derived = Scrypt(salt=salt, length=32, n=2**15, r=8, p=1).derive(passphrase.encode())
    return Fernet(base64.urlsafe_b64encode(derived))


def _sealed(key: bytes, passphrase: str) -> bytes:
    salt = secrets.token_bytes(16)
    return salt + _fernet(passphrase, salt).encrypt(key)


def _opened(sealed: bytes, passphrase: str) -> bytes:
    try:
        return _fernet(passphrase, sealed[:16]).decrypt(sealed[16:])
    except InvalidToken:
        raise Refused("wrong-passphrase", "this is not the passphrase of the backup") from None
