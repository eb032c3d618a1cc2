"""Secrets by the names of their columns."""

from itertools import pairwise

from lumet.facts.model import Column
from lumet.inference.labels_from_names import split_words

_SECRET_WORDS = frozenset({"password", "passwd", "pwd", "pw", "secret", "token", "salt",
                           "passphrase", "psk", "passcode", "apikey", "privatekey",
                           "secretkey", "sessionid", "sessionkey", "credential",
                           "credentials", "passwort", "kennwort", "oauth"})  # fmt: skip
_SECRET_PAIRS = frozenset({("api", "key"), ("private", "key"), ("secret", "key"),
                           ("session", "id"), ("session", "key"), ("pass", "phrase"),
                           ("access", "key"), ("pre", "shared"), ("auth", "pass"),
                           ("user", "pass"), ("db", "pass"), ("smtp", "pass"), ("mail", "pass"),
                           ("token", "hash"), ("session", "hash"), ("code", "hash")})  # fmt: skip
_GLUED = ("password", "passwd", "passphrase", "apikey", "privatekey", "secretkey",
          "sessionkey", "sessionid", "accesstoken", "authtoken", "serverkey")  # fmt: skip
# behind such a word these say something about the secret, and are none
_ABOUT_SECRETS = frozenset({"min", "max", "minimum", "maximum", "length", "len", "size",
                            "policy", "expires", "expiry", "expired", "changed",
                            "updated", "set", "at", "on", "date", "days", "age", "count",
                            "attempts", "failed", "type", "kind", "required", "enabled",
                            "valid", "until", "lifetime", "ttl", "id", "name", "rule",
                            "rules", "question", "reset"})  # fmt: skip


def is_secret(column: Column) -> bool:
    """Tell whether a column is named like a secret: a text or bytes, in words or glued
    together. Example: `PW`, `apikey`; not `password_min_length`, nor a `tokenid` that
    is a number."""
    if column.type.kind not in ("text", "binary", "uuid", "json", "unknown"):
        return False
    words = split_words(column.worded)
    if set(words[-1:]) & _ABOUT_SECRETS and tuple(words[-2:]) not in _SECRET_PAIRS:
        return False
    pairs = set(pairwise(words))
    glued = "".join(words)
    return bool(
        _SECRET_WORDS.intersection(words)
        or pairs & _SECRET_PAIRS
        or any(each in glued for each in _GLUED)
    )
