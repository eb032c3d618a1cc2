"""Passwords: how they are kept, and which are too easy to guess."""

import secrets
import string
import unicodedata
from functools import cache
from itertools import pairwise
from pathlib import Path

from argon2 import PasswordHasher
from argon2.exceptions import Argon2Error, InvalidHashError
from flask_babel import gettext as _

SHORTEST = 12  # characters, where the settings say nothing else
LONGEST = 1_000  # characters; more would only keep the machine busy
NONE = "!"  # stands for the password of a user who has none yet
_COMMON = Path(__file__).parent / "common-passwords.txt"
_ends = string.digits + string.punctuation + " "
_hasher = (
    PasswordHasher()
)  # argon2id with the library's parameters (RFC 9106, low memory)


class Refused(Exception):
    """Says why an account cannot be made or changed so."""


def fold(name: str) -> str:
    """Return a name as it is compared: case and compatible characters do not count."""
    return unicodedata.normalize("NFKC", name).strip().casefold()


@cache
def _common() -> frozenset[str]:
    """Return the commonest passwords, as the frequency lists of zxcvbn count them."""
    return frozenset(_COMMON.read_text(encoding="utf-8").split("\n")) - {""}


def check_password(name: str, password: str, shortest: int = SHORTEST) -> None:
    """Raise Refused, with the reason, for a password that is too easy to guess."""
    folded = fold(password)
    if len(password) < shortest:
        raise Refused(
            _("A password needs at least %(count)s characters.", count=shortest)
        )
    if len(password) > LONGEST:
        raise Refused(_("A password has at most %(count)s characters.", count=LONGEST))
    if fold(name) and fold(name) in folded:
        raise Refused(_("A password must not contain the user's name."))
    if len(set(password)) < 4 or _is_run(folded):
        raise Refused(
            _("A password needs at least four different characters, in no row.")
        )
    if any(each in _common() for each in _cores(folded)):
        raise Refused(_("This password is one of the commonest. Choose another."))


def _cores(folded: str) -> set[str]:
    """Return a password, what it repeats, and what is left of it without its ends."""
    found = {folded, folded.strip(_ends)}
    for size in range(1, len(folded) // 2 + 1):
        if len(folded) % size == 0 and folded == folded[:size] * (len(folded) // size):
            found.add(folded[:size])
            if size < 8:  # too short for the list
                found.add("password")
    return found


def _is_run(folded: str) -> bool:
    """Tell whether every character follows the one before, as in abcdef or 654321."""
    steps = {ord(b) - ord(a) for a, b in pairwise(folded)}
    return len(steps) == 1 and abs(steps.pop()) <= 1


def hashed(password: str) -> str:
    """Return what is kept of a password."""
    return _hasher.hash(password)


@cache
def _nobodys() -> str:
    return _hasher.hash(secrets.token_urlsafe())


def is_right(kept: str | None, password: str) -> bool:
    """Tell whether `password` is the one that `kept` was made from. Takes as long where
    there is none to compare with."""
    usable = kept if kept not in (None, NONE) else None
    try:
        good = _hasher.verify(usable or _nobodys(), password[:LONGEST])
    except (Argon2Error, InvalidHashError):
        return False
    return good and usable is not None


def is_outdated(kept: str) -> bool:
    """Tell whether a kept password was made with weaker parameters than today's."""
    return _hasher.check_needs_rehash(kept)
