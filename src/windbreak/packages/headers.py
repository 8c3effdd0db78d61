"""What a package says of itself, as each content system writes that into its files.

Millrace has a ``component.toml`` in the root folder. WordPress has a comment at the head of a file:
a theme's in ``style.css``, a plugin's in some PHP file of the root folder; the system itself sets
its version in a file of its own.
"""

from __future__ import annotations

import re
import tomllib
import zipfile
from dataclasses import dataclass

from windbreak.core.errors import VersionError
from windbreak.core.versions.version import parse_version
from windbreak.packages.errors import PackageRefused

MILLRACE = "component.toml"
_HEAD = 8192  # bytes of a file in which its head has to stand


@dataclass(frozen=True, slots=True)
class Header:
    """What a package says of itself."""

    product: str
    version: str
    name: str
    folder: str


def has_header(opened: zipfile.ZipFile, root: str) -> bool:
    """Whether an archive's root folder is a component's own."""
    try:
        read_header(opened, root)
    except PackageRefused:
        return False
    return True


def read_header(opened: zipfile.ZipFile, root: str) -> Header:
    """The header of an archive. Raises PackageRefused."""
    names = set(opened.namelist())
    if f"{root}/{MILLRACE}" in names:
        return _millrace(opened.read(f"{root}/{MILLRACE}"), root)
    header = (
        _wordpress(opened, root, names)
        or _theme(opened, root, names)
        or _plugin(opened, root, names)
    )
    if header is None:
        raise PackageRefused(
            f"no {MILLRACE} in {root}/, and no theme’s or plugin’s head",
            f"{root}/{MILLRACE}, or a head with its name and version",
        )
    return header


def _millrace(data: bytes, folder: str) -> Header:
    try:
        header = tomllib.loads(data.decode())
    except UnicodeDecodeError:
        raise PackageRefused(f"a {MILLRACE} that is no text", "UTF-8") from None
    except tomllib.TOMLDecodeError as error:
        raise PackageRefused(f"a {MILLRACE} that can't be read ({error})", "TOML") from None
    kind, name, version = (str(header.get(key, "")) for key in ("kind", "name", "version"))
    if kind not in ("core", "theme", "plugin"):
        raise PackageRefused(f"the kind {kind!r}", "core, theme or plugin")
    return _header(kind, folder, version, name or folder, folder)


def _wordpress(opened: zipfile.ZipFile, root: str, names: set[str]) -> Header | None:
    file = f"{root}/wp-includes/version.php"
    if root != "wordpress" or file not in names:
        return None
    match = re.search(r"\$wp_version\s*=\s*'([^']+)'", _head(opened, file))
    return _header("core", root, match.group(1) if match else "", "WordPress", root)


def _theme(opened: zipfile.ZipFile, root: str, names: set[str]) -> Header | None:
    if f"{root}/style.css" not in names:
        return None
    head = _head(opened, f"{root}/style.css")
    name = _field(head, "Theme Name")
    if not name:
        return None
    shown = any(f"{root}/{page}" in names for page in ("index.php", "templates/index.html"))
    if not shown and not _field(head, "Template"):
        raise PackageRefused(f"a theme without a page to show, in {root}/", f"{root}/index.php")
    return _header("theme", slug(root), _field(head, "Version"), name, root)


def _plugin(opened: zipfile.ZipFile, root: str, names: set[str]) -> Header | None:
    for file in sorted(names):
        folder, _, rest = file.partition("/")
        if folder != root or "/" in rest or not rest.endswith(".php"):
            continue
        head = _head(opened, file)
        name = _field(head, "Plugin Name")
        if name:
            return _header("plugin", slug(root), _field(head, "Version"), name, root)
    return None


def slug(folder: str) -> str:
    """A folder's name as a product's: small letters, digits and hyphens."""
    return re.sub(r"[^a-z0-9]+", "-", folder.lower()).strip("-")


def _head(opened: zipfile.ZipFile, file: str) -> str:
    with opened.open(file) as read:
        return read.read(_HEAD).decode("utf-8", "replace").replace("\r", "\n")


def _field(head: str, name: str) -> str:
    match = re.search(rf"^[ \t/*#@]*{re.escape(name)}:(.*)$", head, re.MULTILINE | re.IGNORECASE)
    return re.sub(r"(?:\*/|\?>).*", "", match.group(1)).strip() if match else ""


def _header(kind: str, id: str, version: str, name: str, folder: str) -> Header:
    try:
        parse_version(version)
    except VersionError as error:
        raise PackageRefused(f"the version {version!r}", "a version") from error
    return Header(f"{kind}/{id}", version, name, folder)
