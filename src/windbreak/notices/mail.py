"""Mail by SMTP: one message, to whom the settings say."""

from __future__ import annotations

import smtplib
import ssl
from dataclasses import dataclass, field
from email.message import EmailMessage
from email.utils import formatdate, make_msgid
from urllib.parse import urlsplit

from windbreak.notices.errors import NoticeError

SECONDS = 30


@dataclass(frozen=True)
class MailSettings:
    """Where mail is handed in, from whom and to whom.

    ``server`` is "smtp://mail.example:587" (TLS is begun where it is offered), or
    "smtps://mail.example"; "" where there is no mail. ``secret`` is in no representation.
    """

    server: str = ""
    user: str = ""
    secret: str = field(default="", repr=False)
    sender: str = "windbreak@localhost"
    to: str = ""

    @property
    def parts(self) -> tuple[str, str, int]:
        """Scheme, host and port. Raises NoticeError."""
        read = urlsplit(self.server)
        usual = {"smtp": 25, "smtps": 465}
        try:
            port = read.port or usual.get(read.scheme, 0)
        except ValueError:
            port = 0
        if read.scheme not in usual or not read.hostname or not port:
            raise NoticeError(
                f"{self.server!r} is no mail server; write it as smtp://mail.example:587"
            )
        return read.scheme, read.hostname, port


def message(subject: str, text: str, sender: str, to: str) -> EmailMessage:
    """A plain message; ``to`` are addresses with commas between."""
    made = EmailMessage()
    made["Subject"], made["From"], made["To"] = subject, sender, to
    made["Date"], made["Message-ID"] = formatdate(), make_msgid(domain="windbreak.invalid")
    made["Auto-Submitted"] = "auto-generated"
    made.set_content(text)
    return made


def send(server: MailSettings, mail: EmailMessage) -> None:
    """Hand a message in. Raises NoticeError with what the server said."""
    scheme, host, port = server.parts
    context = ssl.create_default_context()
    try:
        if scheme == "smtps":
            with smtplib.SMTP_SSL(host, port, timeout=SECONDS, context=context) as line:
                _hand_in(line, server, mail)
        else:
            with smtplib.SMTP(host, port, timeout=SECONDS) as line:
                line.ehlo()
                if line.has_extn("starttls"):
                    line.starttls(context=context)
                    line.ehlo()
                elif server.user:
                    raise NoticeError(f"{host} offers no TLS; a password is not sent in the open")
                _hand_in(line, server, mail)
    except (smtplib.SMTPException, OSError) as error:
        raise NoticeError(f"{host}:{port} did not take the mail: {error}") from error


def _hand_in(line: smtplib.SMTP, server: MailSettings, mail: EmailMessage) -> None:
    if server.user:
        line.login(server.user, server.secret)
    line.send_message(mail)
