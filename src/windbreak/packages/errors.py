"""What is refused of an archive."""

from __future__ import annotations


class PackageRefused(Exception):
    """An archive is not what it should be; it says what was found and what was expected."""

    code = "package-refused"

    def __init__(self, version: str, expected: str) -> None:
        self.found, self.expected = version, expected
        super().__init__(f"found {version}; expected {expected}")

    def __reduce__(self) -> tuple[type[PackageRefused], tuple[str, str]]:
        return type(self), (self.found, self.expected)  # it comes back from a worker
