"""The digest: what wants attention, by mail, once a day."""

from __future__ import annotations

from datetime import datetime

from windbreak.core.values.findings import Finding
from windbreak.notices import mail
from windbreak.notices.errors import NoticeError
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.findings import findings
from windbreak.wording.acts import command
from windbreak.wording.words import counted, day


def send(context: Context, settings: mail.MailSettings, address: str) -> str:
    """Mail the digest; what was done in a sentence. Writes.

    Raises Refused where mail is not set up, and when it is not taken.
    """
    if not settings.server or not settings.to:
        raise Refused("no-mail", "mail is not set up: set mail_server and mail_to for the service")
    queue, asleep = findings.parted(context)
    subject, text = written(queue, asleep, context.clock(), address)
    try:
        mail.send(settings, mail.message(subject, text, settings.sender, settings.to))
    except NoticeError as error:
        raise Refused("mail", f"the digest was not sent: {error}") from error
    context.store.facts.set("digest_on", context.clock().date().isoformat())
    result = f"{counted(len(queue), 'finding')} to {settings.to}"
    context.record("Windbreak", "digest sent", "digest", result=result)
    return f"{subject}; sent to {settings.to}."


def written(
    queue: list[Finding], asleep: list[Finding], now: datetime, address: str
) -> tuple[str, str]:
    """The digest's subject and text, most urgent first."""
    urgent = sum(f.weight in ("critical", "high") for f in queue)
    subject = f"Windbreak, {day(now.date(), now.date())}: {counted(len(queue), 'finding')}"
    if urgent:
        subject += f", {urgent} urgent"
    lines = [f"What wants attention on {day(now.date())}, {now:%H:%M} UTC, most urgent first.", ""]
    for finding in queue:
        due = ""
        if finding.deadline:
            due = f" By {day(finding.deadline.date(), now.date())}."
        lines += [f"{finding.weight.upper():9}{_plain(finding.headline)}{due}"]
        lines += [f"         {_plain(finding.text)}"]
        lines += [f"         {finding.act.label}: {command(finding.act)}", ""]
    if not queue:
        lines += ["Nothing wants attention.", ""]
    if asleep:
        lines += [f"Put aside: {counted(len(asleep), 'finding')}."]
        lines += [f"  to {f.snoozed.until}: {_plain(f.headline)}" for f in asleep if f.snoozed]
        lines += [""]
    return subject, "\n".join([*lines, address])


def _plain(text: str) -> str:
    return text.replace("**", "").replace("`", "")
