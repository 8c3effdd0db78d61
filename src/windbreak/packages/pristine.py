"""What a package holds as its maker made it: the sums of its files, by path in its folder.

Held against what lies in a component's folder on a site they tell the site's own files: those that
the package does not hold, and those that were changed in place.
"""

from __future__ import annotations

import hashlib
import io
import zipfile


def sums(archive: bytes) -> dict[str, str]:
    """The SHA-256 of each file of an installable archive: ``{"lang/de.po": "9f86d0…"}``."""
    by_path = {}
    with zipfile.ZipFile(io.BytesIO(archive)) as opened:
        for entry in opened.infolist():
            _, _, path = entry.filename.partition("/")
            if path and not entry.is_dir():
                by_path[path] = hashlib.sha256(opened.read(entry)).hexdigest()
    return by_path
