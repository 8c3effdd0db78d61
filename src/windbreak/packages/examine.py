"""Archives examined before they are kept: what they hold, and that they do no harm.

The complete download holds the installable archive inside: then that one is taken, and it is said
so. Refused: no zip, links, absolute or climbing paths, too much packed or unpacked, more than one
root folder, a header that is missing or claims something else. The header format belongs to
the content system (``headers``).
"""

from __future__ import annotations

import io
import stat
import zipfile
import zlib
from dataclasses import dataclass
from pathlib import PurePosixPath

from windbreak.core.versions.version import parse_version
from windbreak.packages.errors import PackageRefused
from windbreak.packages.headers import Header, has_header, read_header

MOST_PACKED = 256 * 2**20
MOST_UNPACKED = 512 * 2**20
MOST_FILES = 20_000
MOST_INNER = 100  # archives inside a complete download that are looked into
MOST_RATIO = 200  # unpacked to packed, of one file; beyond it is a bomb


@dataclass(frozen=True, slots=True)
class Examined:
    """An archive that may be kept. ``carried`` are the archives it carries inside."""

    header: Header
    size: int
    files: int
    carried: tuple[tuple[str, bytes], ...] = ()


@dataclass(frozen=True, slots=True)
class Installable:
    """The archive that can be installed; ``inner`` is its path in the download it was found in."""

    archive: bytes
    inner: str | None = None


@dataclass(frozen=True, slots=True)
class Contents:
    """What was seen in an archive: the installable one, where that is another, with its path in the
    download; what it holds; and what each archive that it carries holds.
    """

    archive: bytes | None
    inner: str | None
    whole: Examined
    carried: tuple[Examined, ...]


def look_into(archive: bytes, product: str | None, version: str | None) -> Contents:
    """Look into an archive, those inside it included. Raises PackageRefused."""
    taken = installable(archive, product=product, version=version)
    whole = examine(taken.archive, product=product, version=version)
    carried = tuple([examine(data) for _, data in whole.carried])
    return Contents(taken.archive if taken.inner else None, taken.inner, whole, carried)


def installable(
    archive: bytes, *, product: str | None = None, version: str | None = None
) -> Installable:
    """The archive itself, or the installable one inside a complete download.

    Raises PackageRefused where there is none, or several that could be meant.
    """
    opened = _open(archive)
    with opened:
        entries = _safe_entries(opened)
        names = {e.filename for e in entries}
        roots = {PurePosixPath(name).parts[0] for name in names}
        if len(roots) == 1 and has_header(opened, next(iter(roots))):
            return Installable(archive)
        inside = [e for e in entries if e.filename.lower().endswith(".zip")]
        if not inside:
            return Installable(archive)  # examining it says what is wrong with it
        headers: list[tuple[str, bytes, Header]] = []
        for entry in inside[:MOST_INNER]:
            try:
                data = opened.read(entry)
                headers.append((entry.filename, data, examine(data).header))
            except (PackageRefused, *_UNREADABLE):
                continue
    wanted = [
        header
        for header in headers
        if (product is None or header[2].product == product)
        and (version is None or parse_version(header[2].version) == parse_version(version))
    ]
    if len(wanted) == 1:
        return Installable(wanted[0][1], wanted[0][0])
    held = ", ".join(f"{name} ({h.product} {h.version})" for name, _, h in headers) or "none"
    expected = f"{product} {version or ''}".strip() if product else "one installable archive"
    raise PackageRefused(
        f"a complete download with {len(inside)} archives inside; installable among them: {held}",
        expected,
    )


_UNREADABLE = (zipfile.BadZipFile, EOFError, NotImplementedError, RuntimeError, zlib.error, OSError)


def _open(archive: bytes) -> zipfile.ZipFile:
    if len(archive) > MOST_PACKED:
        raise PackageRefused(f"{len(archive)} bytes", f"{MOST_PACKED} bytes at the most")
    try:
        return zipfile.ZipFile(io.BytesIO(archive))
    except _UNREADABLE as error:
        raise PackageRefused(f"something unreadable ({error})", "a zip archive") from error


def examine(archive: bytes, *, product: str | None = None, version: str | None = None) -> Examined:
    """Look into an archive. Raises PackageRefused, also when it is not the product and version."""
    try:
        with _open(archive) as opened:
            entries = _safe_entries(opened)
            root = _root(entries)
            header = read_header(opened, root)
            carried = tuple(
                (PurePosixPath(e.filename).name, opened.read(e))
                for e in entries
                if e.filename.startswith(f"{root}/bundled/") and e.filename.endswith(".zip")
            )
            broken = opened.testzip()
    except _UNREADABLE as error:
        raise PackageRefused(f"something unreadable ({error})", "a zip archive") from error
    if broken is not None:
        raise PackageRefused(f"a damaged file, {broken}", "files that match their checksums")
    if product is not None and header.product != product:
        raise PackageRefused(header.product, product)
    if version is not None and parse_version(header.version) != parse_version(version):
        raise PackageRefused(f"{header.product} {header.version}", f"version {version}")
    return Examined(header, len(archive), len(entries), carried)


def _safe_entries(opened: zipfile.ZipFile) -> list[zipfile.ZipInfo]:
    entries = opened.infolist()
    if len(entries) > MOST_FILES:
        raise PackageRefused(f"{len(entries)} files", f"{MOST_FILES} at the most")
    total = 0
    for entry in entries:
        path = PurePosixPath(entry.filename)
        if (
            not path.parts
            or path.is_absolute()
            or ".." in path.parts
            or "\\" in entry.filename
            or ":" in path.parts[0]
        ):
            raise PackageRefused(
                f"the path {entry.filename!r}", "paths inside the archive's folder"
            )
        if stat.S_ISLNK(entry.external_attr >> 16):
            raise PackageRefused(f"a link, {entry.filename!r}", "plain files and folders")
        if entry.flag_bits & 1:
            raise PackageRefused(f"{entry.filename!r} behind a password", "readable files")
        total += entry.file_size
        ratio = entry.file_size / max(1, entry.compress_size)
        if total > MOST_UNPACKED or (ratio > MOST_RATIO and entry.file_size > 2**20):
            raise PackageRefused(
                f"{entry.filename!r} that unpacks to {entry.file_size} bytes",
                f"{MOST_UNPACKED} bytes in all, and no file {MOST_RATIO} times its packed size",
            )
    return entries


def _root(entries: list[zipfile.ZipInfo]) -> str:
    roots = sorted({PurePosixPath(e.filename).parts[0] for e in entries})
    if len(roots) != 1:
        raise PackageRefused(f"{len(roots)} root folders", "one root folder")
    return roots[0]
