"""Files in forms: pictures and documents, that a column names or holds itself.

What a form sends under the field's name is the token of an upload that waits, REMOVE,
or nothing: then all stays as it is.
"""

from collections.abc import Sequence
from hashlib import sha256
from typing import Any

from flask import current_app
from flask_babel import lazy_gettext as _
from flask_login import current_user

from ..common.formatting import plain_text
from ..files.uploads import Place, Upload, Uploads, shown_name
from .fields import ValueField
from .operators import OF_PRESENCE

__all__ = ["FileField", "PictureField"]


REMOVE = "-"
EXTENSION = "uploads"


def uploads() -> Uploads:
    """Return the uploads of the application that answers the present request."""
    found: Uploads = current_app.extensions[EXTENSION]
    return found


class FileField(ValueField):
    """A file. `folder`: where those are that the column names; without one the column
    holds the bytes itself, `most` of them."""

    operators = OF_PRESENCE

    drawn = "file"
    images = False

    def __init__(
        self, *positional: Any, folder: str = "", most: int = 0, **rest: Any
    ) -> None:
        super().__init__(*positional, **rest)
        self.folder = folder
        self.most = most

    def place(self, table: str) -> Place:
        """Return where the files of this field are."""
        longest = getattr(self.flags, "maxlength", None) or 200
        return Place(
            folder=self.folder or "waiting",
            images=self.images,
            longest_name=longest,
            most_bytes=self.most,
            table=table,
            column=self.name,
        )

    def gather(self, values: Sequence[Any]) -> str:
        texts = [str(each) for each in values if str(each)]
        return REMOVE if REMOVE in texts else next(iter(texts), "")

    def to_text(self, value: Any) -> str:
        return ""

    def trace(self, value: Any) -> str:
        raw = value if isinstance(value, bytes) else str(value).encode()
        return "" if value is None else sha256(raw).hexdigest()

    @property
    def pending(self) -> Upload | None:
        """The file that was sent and waits, of a form that comes back."""
        token = self.gather(self.raw_data or [])
        if not token or token == REMOVE:
            return None
        user = getattr(current_user, "id", 0) or 0
        return uploads().waiting(token, self.folder or "waiting", user)

    def parse(self, text: str) -> Any:
        if text == REMOVE:
            return None
        waits = self.pending
        if waits is None:
            raise ValueError(_("This file is no longer available. Choose it again."))
        if self.folder:
            return waits.name
        return (uploads().folder / waits.folder / waits.name).read_bytes()

    def show(self, value: Any, language: str) -> str:
        return shown_name(value) if isinstance(value, str) else plain_text(value)

    @property
    def is_asked(self) -> bool:
        """Tell whether the browser is to insist on a file."""
        return self.required and self.object_data is None and self.pending is None


class PictureField(FileField):
    """A picture, shown small."""

    images = True
