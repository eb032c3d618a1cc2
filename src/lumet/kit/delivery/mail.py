"""E-mails by SMTP."""

import smtplib
import ssl
from collections.abc import Mapping
from dataclasses import dataclass, field
from email.message import EmailMessage
from email.utils import formatdate

from ..accounts.outbox import Message
from ..common.exceptions import CannotStart
from .errors import NotSent

STARTTLS, TLS, NONE = "starttls", "tls", "none"
PORTS = {STARTTLS: 587, TLS: 465, NONE: 25}
SECONDS = 20  # for each answer of the server
_PERMANENT = range(500, 600)  # replies that another try gets too: RFC 5321, 4.2.1


@dataclass(frozen=True, slots=True)
class MailServer:
    """The server that takes e-mails, and the address that they come from."""

    host: str = ""
    port: int = 587
    user: str = ""
    password: str = field(default="", repr=False)
    security: str = STARTTLS
    sender: str = ""


def read_mail_server(given: Mapping[str, str]) -> MailServer:
    """Return the server that the settings name. Raises CannotStart for values that
    cannot be used."""
    security = (given.get("SMTP_SECURITY") or STARTTLS).lower()
    if security not in PORTS:
        raise CannotStart(f"SMTP_SECURITY: {security!r} is none of {', '.join(PORTS)}.")
    port = given.get("SMTP_PORT") or str(PORTS[security])
    if not port.isdecimal() or not 0 < int(port) < 65_536:
        raise CannotStart(f"SMTP_PORT: {port!r} is no port.")
    return MailServer(
        host=given.get("SMTP_HOST") or "",
        port=int(port),
        user=given.get("SMTP_USER") or "",
        password=given.get("SMTP_PASSWORD") or "",
        security=security,
        sender=given.get("MAIL_FROM") or "",
    )


def send_mail(server: MailServer, message: Message) -> None:
    """Send an e-mail, with the token of its message in its Message-ID. Raises
    NotSent."""
    if not server.host or not server.sender:
        raise NotSent("SMTP_HOST and MAIL_FROM are not set.")
    if "@" not in message.recipient:
        raise NotSent(f"{message.recipient!r} is no e-mail address.", is_final=True)
    mail = _composed(server, message)
    try:
        with _connected(server) as connection:
            if server.user:
                connection.login(server.user, server.password)
            connection.send_message(mail)
    except smtplib.SMTPRecipientsRefused as error:
        code, said = next(iter(error.recipients.values()))
        raise NotSent(_reply(code, said), code in _PERMANENT) from error
    except smtplib.SMTPAuthenticationError as error:
        raise NotSent("SMTP_USER and SMTP_PASSWORD are not accepted.") from error
    except smtplib.SMTPResponseException as error:
        is_final = isinstance(error, smtplib.SMTPDataError) and error.smtp_code in _PERMANENT  # fmt: skip
        raise NotSent(_reply(error.smtp_code, error.smtp_error), is_final) from error
    except (OSError, smtplib.SMTPException) as error:
        raise NotSent(f"{server.host}:{server.port}: {error or type(error).__name__}") from error  # fmt: skip


def _composed(server: MailServer, message: Message) -> EmailMessage:
    mail = EmailMessage()
    mail["From"] = server.sender
    mail["To"] = message.recipient
    mail["Subject"] = message.subject
    mail["Date"] = formatdate(usegmt=True)
    domain = server.sender.rpartition("@")[2].strip("> ") or server.host
    mail["Message-ID"] = f"<{message.token}@{domain}>"
    mail["Auto-Submitted"] = "auto-generated"  # RFC 3834: no out-of-office answers
    mail.set_content(message.content["text"])
    if html := message.content.get("html"):
        mail.add_alternative(html, subtype="html")
    return mail


def _connected(server: MailServer) -> smtplib.SMTP:
    context = ssl.create_default_context()
    if server.security == TLS:
        return smtplib.SMTP_SSL(server.host, server.port, timeout=SECONDS, context=context)  # fmt: skip
    connection = smtplib.SMTP(server.host, server.port, timeout=SECONDS)
    if server.security == STARTTLS:
        try:
            connection.starttls(context=context)
        except BaseException:
            connection.close()
            raise
    return connection


def _reply(code: int, said: bytes | str) -> str:
    words = said.decode("utf-8", "replace") if isinstance(said, bytes) else said
    return f"{code} {words}"
