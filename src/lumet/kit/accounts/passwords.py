"""Passwords: their hashes, and the policy against those that are easy to guess."""

import re
import secrets
import string
import unicodedata
from collections.abc import Collection, Iterable
from functools import cache

from argon2 import PasswordHasher
from argon2.exceptions import Argon2Error, InvalidHashError
from flask_babel import gettext as _

from ..common.formatting import without_accents

MIN_LENGTH = 12  # characters, where the settings say nothing else
MAX_LENGTH = 1_000  # characters; more would only keep the machine busy
NONE = "!"  # stands for the password of a user who has none yet
LOOKED_AT = 72  # characters of a password; what is strong so far stays so
MIN_GUESSES = 1e10  # the highest score of the estimate: safe if the hashes are lost
MIN_OF_CORE = 1e5  # of what is left without digits and signs at its ends
_ENDS = string.digits + string.punctuation + " "
_PARTS = re.compile(r"\w{3,}")
_hasher = (
    PasswordHasher()
)  # argon2id with the library's parameters (RFC 9106, low memory)


class AccountError(Exception):
    """Says why an account cannot be made or changed so."""


def fold_name(name: str) -> str:
    """Return a name as it is compared: case and compatible characters do not count."""
    return unicodedata.normalize("NFKC", name).strip().casefold()


def skeleton(name: str) -> str:
    """Return the comparable form of a name: without case, accents, marks and blanks at
    the end, so that no two users are the same to any database, whatever its
    collation."""
    return without_accents(fold_name(name))


_ALPHABETS = ("LATIN", "CYRILLIC", "GREEK", "ARMENIAN", "CHEROKEE", "COPTIC")


def mixes_alphabets(name: str) -> bool:
    """Tell whether a name has letters of alphabets that look alike, so that it could
    pass for another: a Cyrillic і in ina.

    Source: Unicode Technical Standard 39, 5.1 and 5.2 (single script).
    """
    names = (unicodedata.name(each, "") for each in fold_name(name) if each.isalpha())
    found = {word.partition(" ")[0] for word in names}
    return len(found & set(_ALPHABETS)) > 1


def check_password(
    name: str, password: str, shortest: int = MIN_LENGTH, words: Iterable[str] = ()
) -> None:
    """Raise AccountError, with the reason, for a password that is too easy to guess:
    short, or found in fewer than MIN_GUESSES by who knows the commonest passwords,
    words, names, dates and rows of keys, the user's name and the `words` of the
    application.

    Source: OWASP ASVS 5.0, 6.2.4 and 6.2.11; no rule asks for kinds of characters
    (6.2.5).
    """
    if len(password) < shortest:
        raise AccountError(
            _("A password needs at least %(count)s characters.", count=shortest)
        )
    if len(password) > MAX_LENGTH:
        raise AccountError(
            _("A password has at most %(count)s characters.", count=MAX_LENGTH)
        )
    folded = fold_name(password)
    if fold_name(name) and fold_name(name) in folded:
        raise AccountError(_("A password must not contain the user's name."))
    known = {
        part for text in (name, *words) for part in _PARTS.findall(fold_name(text))
    }
    known |= {fold_name(text) for text in (name, *words)}
    # what is left of a common password without its ends is as common
    core = password.strip(_ENDS)
    is_easy = _guesses(password, known) < MIN_GUESSES
    if is_easy or (core and _guesses(core, known) < MIN_OF_CORE):
        raise AccountError(
            _("This password is easy to guess. Choose another, such as four words that "
              "have nothing to do with each other.")
        )  # fmt: skip


def _guesses(password: str, known: Collection[str]) -> float:
    from zxcvbn import zxcvbn  # type: ignore[import-untyped]  # slow to import

    looked_at = password[:LOOKED_AT]
    found = zxcvbn(looked_at, user_inputs=sorted(known), max_length=LOOKED_AT)
    return float(found["guesses"])


def hash_password(password: str) -> str:
    """Return the hash of a password."""
    return _hasher.hash(password)


@cache
def _nobodys() -> str:
    return _hasher.hash(secrets.token_urlsafe())


def is_correct(kept: str | None, password: str) -> bool:
    """Tell whether `password` is the one that `kept` was made from. Takes as long where
    there is none to compare with."""
    usable = kept if kept not in (None, NONE) else None
    try:
        good = _hasher.verify(usable or _nobodys(), password[:MAX_LENGTH])
    except (Argon2Error, InvalidHashError):
        return False
    return good and usable is not None


def is_outdated(kept: str) -> bool:
    """Tell whether a kept password was made with weaker parameters than today's."""
    return _hasher.check_needs_rehash(kept)
