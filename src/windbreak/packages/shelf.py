"""The shelf: packages in hand, as files named by their sum, with their records in the store."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

from windbreak.core.values.packages import Package
from windbreak.core.versions.version import parse_version
from windbreak.packages.errors import PackageRefused
from windbreak.packages.examine import Contents, Examined, look_into
from windbreak.store.store import Store


class Shelf:
    """Packages of one service, in a folder of its data directory. ``carry_out`` examines archives
    where heavy work is done: called with a function and what it is given, it answers as that does.
    """

    def __init__(
        self, folder: Path, store: Store, carry_out: Callable[..., Contents] = look_into
    ) -> None:
        self.folder = folder
        self.store = store
        self.carry_out = carry_out
        folder.mkdir(parents=True, exist_ok=True)

    def add(
        self,
        archive: bytes,
        *,
        at: datetime,
        source: str,
        product: str | None = None,
        version: str | None = None,
        sha256: str | None = None,
        announced: Callable[[str, str], str | None] | None = None,
    ) -> Package:
        """Examine an archive and keep it, with the archives it carries inside. Writes.

        Of a complete download the installable archive inside is taken. ``sha256`` is the sum that
        the archive has to have; ``announced`` tells what its maker told of a product's version,
        for an archive of which it is not known yet what it holds. Raises PackageRefused; then
        nothing of it is kept.
        """
        sum_of_all = hashlib.sha256(archive).hexdigest()
        if sha256 is not None and sha256.lower() != sum_of_all:
            raise PackageRefused(f"the SHA-256 {sum_of_all}", sha256)
        contents = self.carry_out(archive, product, version)
        archive, whole = contents.archive or archive, contents.whole
        release = announced(whole.header.product, whole.header.version) if announced else None
        sum_ = hashlib.sha256(archive).hexdigest()
        if release is not None and release.lower() != sum_:
            raise PackageRefused(f"the SHA-256 {sum_}", f"{release}, as its maker told")
        with self.store.transaction():
            for (name, data), examined in zip(whole.carried, contents.carried, strict=True):
                self._keep(data, examined, at, f"inside {whole.header.name}, {name}")
            return self._keep(archive, whole, at, source, contents.inner)

    def _keep(
        self,
        archive: bytes,
        examined: Examined,
        at: datetime,
        source: str,
        inner: str | None = None,
    ) -> Package:
        sum_ = hashlib.sha256(archive).hexdigest()
        path = self.path(sum_)
        if not path.exists():
            part = path.with_suffix(".part")
            part.write_bytes(archive)
            part.replace(path)
        header = examined.header
        return self.store.packages.put(
            Package(
                id=sum_,
                product=header.product,
                version=header.version,
                name=header.name,
                folder=header.folder,
                size=examined.size,
                kept_at=at,
                source=source,
                inner=inner,
            )
        )

    def find(self, product: str, version: str, sha256: str | None = None) -> Package | None:
        """The package of a release, when it is in hand; only the one of a sum, if given. Reads."""
        wanted = parse_version(version)
        kept = self.store.packages.all(product=product)
        packages = [p for p in kept if parse_version(p.version) == wanted]
        if sha256 is not None:
            packages = [p for p in packages if p.id == sha256.lower()]
        return max(packages, key=lambda p: p.kept_at) if packages else None

    def drop(self, package: Package) -> None:
        """Keep a package no longer. Writes."""
        with self.store.transaction():
            self.store.packages.drop(package.id)
            self.path(package.id).unlink(missing_ok=True)

    def read(self, package: Package) -> bytes:
        """The archive's bytes. Raises PackageRefused when the file no longer matches its sum."""
        archive = self.path(package.id).read_bytes()
        if hashlib.sha256(archive).hexdigest() != package.id:
            raise PackageRefused(f"a changed file on the shelf for {package.name}", package.id)
        return archive

    def path(self, sum_: str) -> Path:
        return self.folder / f"{sum_}.zip"
