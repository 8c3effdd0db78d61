"""Where the service is and with which token: options, environment, or the profile file."""

from __future__ import annotations

import argparse
import contextlib
import json
import os
from pathlib import Path
from typing import TYPE_CHECKING

from windbreak.cli import clock
from windbreak.cli.refusals import Refusal

if TYPE_CHECKING:
    from windbreak.client import Windbreak


def profile_path() -> Path:
    """The profile file; ``WINDBREAK_PROFILE`` names another."""
    named = os.environ.get("WINDBREAK_PROFILE")
    home = Path(os.environ.get("XDG_CONFIG_HOME", Path.home() / ".config"))
    return Path(named) if named else home / "windbreak" / "profile.json"


def write_profile(address: str, token: str) -> Path:
    path = profile_path()
    path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(handle, "w") as file:
        json.dump({"address": address, "token": token}, file)
    return path


def connect(args: argparse.Namespace) -> Windbreak:
    """The client for a command. Raises Refusal when no address or token is known."""
    from windbreak.client import ClientError, Windbreak

    class UntilShown(Windbreak):
        """Ends once what it wrote is shown, so that the command after it reads that."""

        def close(self) -> None:
            if self.written:
                with contextlib.suppress(ClientError):
                    self.who_am_i()
            super().close()

    kept: dict[str, str] = {}
    path = profile_path()
    if path.exists():
        try:
            kept = json.loads(path.read_text())
        except ValueError:
            raise Refusal(f"{path} can't be read; sign in again: windbreak sign-in LINK") from None
    address = args.service or os.environ.get("WINDBREAK_SERVICE") or kept.get("address")
    token = args.token or os.environ.get("WINDBREAK_TOKEN")
    if not token and address and same_service(address, kept.get("address", "")):
        token = kept.get("token")  # it was made by this service, and goes to no other
    if address and not token and kept.get("token"):
        raise Refusal(
            f"{path} holds a token of {kept.get('address')}, and it goes to no other service; "
            f"sign in at {address}, or give a token of it: --token",
            4,
        )
    if not address or not token:
        raise Refusal(
            "no service is known; sign in with the link it printed: windbreak sign-in LINK", 4
        )
    library = UntilShown(address, token)
    clock.follow(library)
    return library


def same_service(address: str, other: str) -> bool:
    """Whether two addresses are those of one service."""
    return address.rstrip("/").lower() == other.rstrip("/").lower()


def pick_site(windbreak: Windbreak, text: str) -> str:
    """The id of a site from its id, or from a part of its name that only one has."""
    fitting = windbreak.named("site", text)
    if len(fitting) == 1:
        return fitting[0].id
    if not fitting:
        raise Refusal(f"there is no site {text!r}; see `windbreak site list`")
    names = ", ".join(site.id for site in fitting[:6])
    raise Refusal(f"{text!r} fits several sites: {names}", 2)


def pick_product(windbreak: Windbreak, text: str) -> str:
    """The id of a product from its id, its slug, its name or a folder it lies in."""
    fitting = windbreak.named("product", text)
    if len(fitting) == 1:
        return fitting[0].id
    if fitting:
        names = ", ".join(product.id for product in fitting[:6])
        raise Refusal(f"{text!r} fits several products: {names}", 2)
    if "/" in text:
        return text.lower()
    raise Refusal(f"there is no product {text!r}; see `windbreak product list`")
