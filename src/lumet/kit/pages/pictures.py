"""Pictures that the database holds, made small: whatever they say they are."""

import io

SIDE = 320  # pixels, of the longer side
MOST_PIXELS = 50_000_000
FORMATS = ("PNG", "JPEG", "GIF", "WEBP", "BMP", "TIFF")


class NoPicture(Exception):
    """Some bytes are no picture that can be shown."""


def small_picture(raw: bytes) -> tuple[bytes, str]:
    """Return a small copy of a picture and its media type: drawn anew, so that nothing
    else that is in the bytes goes out. Raises NoPicture."""
    from PIL import Image, ImageOps, UnidentifiedImageError  # slow to import

    try:
        with Image.open(io.BytesIO(raw), formats=FORMATS) as found:
            if found.width * found.height > MOST_PIXELS:
                raise NoPicture
            upright = ImageOps.exif_transpose(found) or found
            has_holes = upright.has_transparency_data
            drawn = upright.convert("RGBA" if has_holes else "RGB")
            drawn.thumbnail((SIDE, SIDE))
            made = io.BytesIO()
            drawn.save(made, "PNG" if has_holes else "JPEG")
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError) as error:
        raise NoPicture from error
    except Image.DecompressionBombError as error:
        raise NoPicture from error
    return made.getvalue(), "image/png" if has_holes else "image/jpeg"
