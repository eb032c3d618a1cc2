"""Throttling of failed sign-ins, without locking out the user.

Failures are counted per account and network together, each further one doubling the
wait; per network over all accounts; and, for a device that signed in to the account
before, by themselves, so that a stranger's failures lock nobody out.
"""

import ipaddress
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from math import ceil

from sqlalchemy import ColumnElement, Connection, delete, func, insert, select

from .store import failure

FREE = 4  # failures before the first wait
MAX_WAIT = timedelta(minutes=15)
REMEMBERED = timedelta(hours=24)
FAILURES_PER_NETWORK = 60
NETWORK_WINDOW = timedelta(minutes=15)


class TooManyFailures(Exception):
    """Somebody tried too often; another try counts after `seconds`."""

    def __init__(self, seconds: int) -> None:
        super().__init__(f"wait {seconds} s")
        self.seconds = seconds


@dataclass(frozen=True, slots=True)
class Try:
    """One try to sign in: the folded name, the network, the known device or ""."""

    folded: str
    network: str
    device: str = ""


def now() -> datetime:
    """Return the present moment as the store keeps it: UTC, without a zone."""
    return datetime.now(UTC).replace(tzinfo=None)


def network_of(origin: str) -> str:
    """Return the network of an address: a host of IPv4, a /64 of IPv6."""
    try:
        address = ipaddress.ip_address(origin)
    except ValueError:
        return origin[:80]
    if isinstance(address, ipaddress.IPv6Address):
        if address.ipv4_mapped:
            return str(address.ipv4_mapped)
        return str(ipaddress.ip_network((address, 64), strict=False))
    return str(address)


def begin_try(connection: Connection, tried: Try) -> int:
    """Count a try as failed before it is known, so that tries at the same time count
    too; `forgive` takes it back. Returns how many there are now. Raises
    TooManyFailures, and counts nothing, too early."""
    wait, count = _wait(connection, tried)
    if wait > timedelta(0):
        raise TooManyFailures(ceil(wait.total_seconds()))
    connection.execute(delete(failure).where(failure.c.at < now() - REMEMBERED))
    connection.execute(
        insert(failure).values(
            folded=tried.folded[:80],
            origin=tried.network,
            device=tried.device or None,
            at=now(),
        )
    )
    return count + 1


def forgive(connection: Connection, tried: Try) -> None:
    """Forget the failures that a right password makes good."""
    statement = delete(failure).where(failure.c.folded == tried.folded[:80])
    connection.execute(statement.where(_of(tried)))


def _of(tried: Try) -> ColumnElement[bool]:
    if tried.device:
        return failure.c.device == tried.device
    return (failure.c.origin == tried.network) & failure.c.device.is_(None)


def _wait(connection: Connection, tried: Try) -> tuple[timedelta, int]:
    """Return how long to wait before the next try, and how many failed before."""
    mine = select(func.count(), func.max(failure.c.at)).where(
        failure.c.folded == tried.folded[:80],
        failure.c.at > now() - REMEMBERED,
        _of(tried),
    )
    failed, last = connection.execute(mine).one()
    wait = timedelta(0)
    if failed >= FREE:
        doubled = timedelta(seconds=2.0 ** min(failed - FREE + 1, 20))
        wait = last + min(doubled, MAX_WAIT) - now()
    if tried.device:
        return wait, failed
    theirs = select(func.count(), func.min(failure.c.at)).where(
        failure.c.origin == tried.network, failure.c.at > now() - NETWORK_WINDOW
    )
    count, first = connection.execute(theirs).one()
    if count >= FAILURES_PER_NETWORK:
        wait = max(wait, first + NETWORK_WINDOW - now())
    return wait, failed
