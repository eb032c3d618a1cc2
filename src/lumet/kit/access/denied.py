"""Errors of the reach."""


class AccessDenied(Exception):
    """A statement that its reach does not allow, or that has none."""


class ChangeDenied(Exception):
    """A change would put a record, or a field of it, beyond the user's own reach."""


class AmbiguousKey(ChangeDenied):
    """A change of one record would change several: the decided key
    is the same. The transaction is not to be kept."""


class MissingKey(ChangeDenied):
    """A record was added whose key is NULL, so that nothing could find it again. The
    transaction is not to be kept."""
