"""The worker: sends what is due in the outbox."""

import logging
from collections.abc import Mapping
from datetime import datetime, timedelta
from threading import Event, Thread

from sqlalchemy.exc import DBAPIError

from ..accounts.outbox import EMAIL, Outbox, OutboxEntry
from ..accounts.throttle import now
from .errors import NotSent
from .mail import read_mail_server, send_mail
from .webhooks import read_receiver, send_webhook

REST = 2.0  # seconds between looks into the outbox
log = logging.getLogger(__name__)


class Worker:
    """Sends the messages of one outbox. `settings` are those from the environment and
    `.env`. Raises CannotStart for a mail server that cannot be used."""

    def __init__(self, outbox: Outbox, settings: Mapping[str, str]) -> None:
        self.outbox = outbox
        self._settings = settings
        self._mail = read_mail_server(settings)
        self._swept: datetime | None = None
        self._ended = Event()

    def run(self) -> None:
        """Send what is due until `end` is called. The store may be away meanwhile."""
        while not self._ended.is_set():
            try:
                self.send_due()
                self._sweep()
            except DBAPIError as error:
                log.error("The outbox cannot be reached: %s", error.orig)
            self._ended.wait(REST)

    def start(self) -> None:
        """Run beside the program, until that ends."""
        Thread(target=self.run, name="outbox", daemon=True).start()

    def end(self) -> None:
        """Let `run` end behind the message that is being sent."""
        self._ended.set()

    def send_due(self) -> int:
        """Send what is due now; return how many messages were sent."""
        count = 0
        while not self._ended.is_set() and (entry := self.outbox.claim()):
            count += self._send(entry)
        return count

    def _send(self, entry: OutboxEntry) -> bool:
        message = entry.message
        try:
            if message.channel == EMAIL:
                send_mail(self._mail, message)
            else:
                receiver = read_receiver(self._settings, message.recipient)
                send_webhook(receiver, message)
        except NotSent as error:
            self._say(entry, str(error))
            self.outbox.mark_failed(entry, str(error), error.is_final)
            return False
        except Exception as error:  # one message must not hold up all others
            log.exception("%s was not sent", message.token)
            self.outbox.mark_failed(entry, f"{type(error).__name__}: {error}", False)
            return False
        self.outbox.mark_sent(entry.id)
        return True

    def _say(self, entry: OutboxEntry, why: str) -> None:
        message = entry.message
        log.warning("%s to %s was not sent: %s", message.token, message.recipient, why)

    def _sweep(self) -> None:
        moment = now()
        if self._swept is None or moment - self._swept > timedelta(hours=1):
            self._swept = moment
            self.outbox.sweep()
