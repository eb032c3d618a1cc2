"""Thumbnails of pictures in the database, whatever type they claim to be. One at a
time is drawn in a process, and kept, so that a list of many costs no more than one."""

import hashlib
import io
import os
import tempfile
from pathlib import Path
from threading import Lock

from .uploads import MAX_PIXELS

SIDE = 320  # pixels, of the longer side
KEPT = "thumbnails"  # the folder, among the uploads, of what was drawn
MAX_KEPT = 5_000
_KINDS = {"png": "image/png", "jpg": "image/jpeg"}
_drawing = Lock()
FORMATS = ("PNG", "JPEG", "GIF", "WEBP", "BMP", "TIFF")


class NotAnImage(Exception):
    """Some bytes are no picture that can be shown."""


def cached_thumbnail(raw: bytes, uploads: Path) -> tuple[bytes, str]:
    """Return a small copy of a picture and its media type, drawn once and kept among
    the `uploads`. Raises NotAnImage."""
    name = hashlib.sha256(raw).hexdigest()
    folder = uploads / KEPT
    for ending, kind in _KINDS.items():
        try:
            return (folder / f"{name}.{ending}").read_bytes(), kind
        except OSError:
            continue
    with _drawing:
        small, kind = thumbnail(raw)
        _keep(folder, f"{name}.{'png' if kind == _KINDS['png'] else 'jpg'}", small)
    return small, kind


def _keep(folder: Path, name: str, content: bytes) -> None:
    """Keep what was drawn; where that cannot be, it is drawn again."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
        there = list(folder.iterdir())
        if len(there) >= MAX_KEPT:
            for each in sorted(there, key=os.path.getmtime)[: MAX_KEPT // 10]:
                each.unlink(missing_ok=True)
        with tempfile.NamedTemporaryFile(dir=folder, delete=False) as made:
            made.write(content)
        Path(made.name).replace(folder / name)
    except OSError:
        return


def thumbnail(raw: bytes) -> tuple[bytes, str]:
    """Return a small copy of a picture and its media type: drawn anew, so that nothing
    else that is in the bytes goes out. Raises NotAnImage."""
    from PIL import Image, ImageOps, UnidentifiedImageError  # slow to import

    try:
        with Image.open(io.BytesIO(raw), formats=FORMATS) as found:
            found.draft("RGB", (2 * SIDE, 2 * SIDE))  # a JPEG is read small
            if found.width * found.height > MAX_PIXELS:
                raise NotAnImage
            upright = ImageOps.exif_transpose(found) or found
            has_holes = upright.has_transparency_data
            drawn = upright.convert("RGBA" if has_holes else "RGB")
            drawn.thumbnail((SIDE, SIDE))
            made = io.BytesIO()
            drawn.save(made, "PNG" if has_holes else "JPEG")
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError) as error:
        raise NotAnImage from error
    except Image.DecompressionBombError as error:
        raise NotAnImage from error
    return made.getvalue(), "image/png" if has_holes else "image/jpeg"
