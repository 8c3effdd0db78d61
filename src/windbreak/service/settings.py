"""The service's settings: each declared once, with its default and its help.

An option of ``windbreak serve`` outranks the environment, which outranks the file
``windbreak.toml`` in the data directory, which outranks the default.
"""

from __future__ import annotations

import argparse
import difflib
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from windbreak.notices.mail import MailSettings
from windbreak.operations.administration.retention import Retention


class SettingRefused(ValueError):
    """A setting has a value that it can't have; says which, where from, and what would be right."""

    code = "setting-refused"


@dataclass(frozen=True, slots=True)
class Setting:
    """One setting. Its type is that of its default."""

    name: str
    default: str | int
    help: str

    @property
    def option(self) -> str:
        return f"--{self.name.replace('_', '-')}"

    @property
    def variable(self) -> str:
        return f"WINDBREAK_{self.name.upper()}"

    def read(self, value: object, where: str) -> str | int:
        """A value as the setting's type. Raises SettingRefused."""
        if isinstance(self.default, int):
            try:
                number = int(str(value))
            except ValueError:
                number = -1
            if number < 0:
                raise SettingRefused(
                    f"{self.name}, {where}: {value!r} is not a whole number from 0 up"
                )
            return number
        return str(value)


SETTINGS: tuple[Setting, ...] = (
    Setting("host", "127.0.0.1", "the address to listen at"),
    Setting("port", 8470, "the port to listen at; 0 takes a free one"),
    Setting("soak_major", 7, "days a major release must be out before it is taken"),
    Setting("soak_minor", 2, "days a minor release must be out before it is taken"),
    Setting("soak_patch", 1, "days a patch must be out before it is taken"),
    Setting("soak_security", 0, "days a release that closes an advisory must be out"),
    Setting("refresh_minutes", 30, "how often each site is asked what is installed; 0 never"),
    Setting("pages_minutes", 15, "how often each site's pages are looked at from outside; 0 never"),
    Setting(
        "workers",
        1,
        "processes for heavy work: timetables, many sites, archives; 0: the service itself does it",
    ),
    Setting(
        "cluster",
        "",
        "the address of a Dask cluster that does so instead, as tcp://10.1.0.5:8786",
    ),
    Setting(
        "private_networks",
        "",
        "private networks that feeds and web hooks may lie on, as 10.1.0.0/16, 127.0.0.0/8",
    ),
    Setting("per_host", 2, "how many feeds of one host are asked at once"),
    Setting("shelf_days", 180, "days after which a package that nobody needs leaves the shelf"),
    Setting("events_days", 30, "days that what happened is kept for who follows it; 0 for ever"),
    Setting("deliveries_days", 30, "days that what was sent to web hooks is kept; 0 for ever"),
    Setting("journals_days", 365, "days that the journals of old runs are kept; 0 for ever"),
    Setting("looks_days", 365, "days that changes in what was seen of sites are kept; 0 for ever"),
    Setting("kept_days", 14, "days that snapshots of runs that ended well stay on the sites"),
    Setting("prove_days", 30, "days after which a backup is proved on the twin again; 0 never"),
    Setting("patience_minutes", 30, "how long a site may be silent in mid-run until it is told"),
    Setting("clock_file", "", "for trials: a file with the seconds that the clock is ahead"),
    Setting(
        "browser",
        "",
        "a headless Chromium that takes pictures before and after a run, and opens editors",
    ),
    Setting("shelf_mb", 20_000, "megabytes beyond which such packages leave earlier"),
    Setting(
        "mail_server", "", "where mail is handed in, as smtp://mail.example:587; none by default"
    ),
    Setting("mail_user", "", "the user of the mail server, where it wants one"),
    Setting("mail_secret", "", "its password; better in the environment than as an option"),
    Setting("mail_from", "windbreak@localhost", "from whom mail comes"),
    Setting("mail_to", "", "to whom the digest goes, with commas between"),
    Setting("digest_hour", 7, "the hour (UTC) at which the digest is mailed; 24 never"),
    Setting("account", "operations", "the account that is made at the first start"),
    Setting("account_name", "Operations", "the name of that account, as the ledger shows it"),
)


@dataclass(frozen=True)
class Settings:
    """The settings in force, by name."""

    values: Mapping[str, str | int]

    def __getattr__(self, name: str) -> Any:
        try:
            return self.values[name]
        except KeyError:
            raise AttributeError(name) from None

    @property
    def soak(self) -> dict[str, int]:
        kinds = ("major", "minor", "patch", "security")
        return {kind: int(self.values[f"soak_{kind}"]) for kind in kinds}

    @property
    def mail(self) -> MailSettings:
        names = ("mail_server", "mail_user", "mail_secret", "mail_from", "mail_to")
        server, user, secret, sender, to = (str(self.values[name]) for name in names)
        return MailSettings(server, user, secret, sender, to)

    @property
    def retention(self) -> Retention:
        names = ("events_days", "deliveries_days", "journals_days", "looks_days")
        return Retention(*(int(self.values[name]) for name in names))

    @property
    def shelf(self) -> ShelfSettings:
        return ShelfSettings(int(self.values["shelf_days"]), int(self.values["shelf_mb"]))


@dataclass(frozen=True)
class ShelfSettings:
    """How long and how much the shelf keeps beyond what is needed for going back."""

    days: int = 180
    most_mb: int = 20_000


def add_options(parser: argparse.ArgumentParser) -> None:
    """Give a command an option for each setting."""
    for setting in SETTINGS:
        parser.add_argument(
            setting.option,
            dest=f"setting_{setting.name}",
            metavar="N" if isinstance(setting.default, int) else "TEXT",
            help=f"{setting.help} (default {setting.default}; {setting.variable})",
        )


def read_settings(
    data: Path, options: Mapping[str, Any], environment: Mapping[str, str]
) -> Settings:
    """The settings of a data directory. Raises SettingRefused with every fault at once."""
    path = data / "windbreak.toml"
    given: dict[str, Any] = {}
    if path.exists():
        try:
            given = tomllib.loads(path.read_text())
        except tomllib.TOMLDecodeError as error:
            raise SettingRefused(f"{path}: {error}") from None
    names = [s.name for s in SETTINGS]
    faults = [_unknown(path, name, names) for name in sorted(given.keys() - set(names))]
    values: dict[str, str | int] = {}
    for setting in SETTINGS:
        value, where = setting.default, ""
        if (option := options.get(f"setting_{setting.name}")) is not None:
            value, where = option, f"option {setting.option}"
        elif setting.variable in environment:
            value, where = environment[setting.variable], f"environment {setting.variable}"
        elif setting.name in given:
            value, where = given[setting.name], str(path)
        try:
            values[setting.name] = setting.read(value, where) if where else value
        except SettingRefused as error:
            faults.append(str(error))
    if faults:
        raise SettingRefused("\n  ".join(faults))
    return Settings(values)


def _unknown(path: Path, name: str, names: list[str]) -> str:
    """What is said of a setting that there is none of: the nearest there is, or all."""
    near = difflib.get_close_matches(name, names, 1)
    right = f"did you mean {near[0]}?" if near else f"there are: {', '.join(names)}"
    return f"{path}: there is no setting {name!r}; {right}"
