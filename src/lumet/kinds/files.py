"""Kinds of files."""

from lumet.kinds.base import FieldSource, Kind, matching


class _FileKind(Kind):
    keys = ("folder",)
    holds_bytes = True

    def plainer(self, source: FieldSource) -> str:
        return "" if source.is_binary or source.decided.folder else "text"

    def arguments(self, source: FieldSource) -> list[str]:
        if not source.is_binary:
            return [f"folder={source.decided.folder!r}"]
        most = source.server.max_bytes.get(source.column.type.native)
        return [f"most={most}"] if most else []

    def validators(self, source: FieldSource) -> list[str]:
        length = source.column.type.length
        return [f"MaxLength({length})"] if length and source.decided.folder else []


class File(_FileKind):
    """A file: its bytes, or its name among the uploads."""

    name = "file"
    meaning = "a file in the column, or named by it in a folder of the uploads"
    field = "FileField"
    words = frozenset({"file", "document", "attachment", "pdf", "filename", "scan", "upload",
                       "filepath"})  # fmt: skip
    looks = ("file", "image")
    pattern = matching(
        r"[^\n<>|]*[\w)]\.(pdf|docx?|xlsx?|pptx?|od[tsp]|csv|txt|rtf|zip|7z|gz|xml|dwg|mp[34])"
    )


class Image(_FileKind):
    """A picture: its bytes, or its name among the uploads."""

    name = "image"
    meaning = "a picture, shown, in the column or in a folder of the uploads"
    field = "PictureField"
    synonyms = ("picture", "photo")
    words = frozenset({"photo", "image", "picture", "img", "logo", "avatar", "pic",
                       "thumbnail", "portrait", "icon", "foto"})  # fmt: skip
    looks = ("image",)
    pattern = matching(r"[^\n<>|]*\.(png|jpe?g|gif|webp|svg|bmp|tiff?|avif)")


KINDS: tuple[Kind, ...] = (Image(), File())
