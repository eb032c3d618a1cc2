"""The error of a message that was not sent."""


class NotSent(Exception):
    """A message was not sent; `is_final`: trying again would do no good."""

    def __init__(self, reason: str, is_final: bool = False) -> None:
        super().__init__(reason)
        self.is_final = is_final
