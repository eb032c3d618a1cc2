"""Files of records, served so that they can do no harm, and the list of all uploads."""

import io
from typing import Any

from flask import (
    Response,
    abort,
    render_template,
    request,
    send_file,
    url_for,
)
from flask.typing import ResponseReturnValue
from sqlalchemy import select

from ..files.thumbnails import NotAnImage, cached_thumbnail
from ..files.uploads import KEPT, PICTURES, SHOWN, Upload, ending_of, size_text
from ..files.uploads import UploadRejected as NoPictureThere
from ..forms.file_fields import FileField, uploads
from ..pages import urls
from ..pages.context import site
from ..pages.urls import record_address
from .audit_views import blueprint as activity
from .navigation import blueprint, key_or_404, table_or_404

PAGE_UPLOADS = 50
INERT = "sandbox; default-src 'none'"  # what a browser may do with a file: nothing


def _held(name: str, segment: str, column: str) -> tuple[bytes, str]:
    """Return the bytes of a record's file and its name, within the user's reach."""
    context = table_or_404(name)
    pages, reach = context.pages, context.reach
    field = pages.fields.get(column)
    if not pages.key or not isinstance(field, FileField):
        abort(404)
    if reach.hides(pages.table.fullname, column):
        abort(404)
    rows = reach.rows(pages.table)
    key = key_or_404(context, segment)
    statement = select(rows.c[column]).where(*[rows.c[k] == v for k, v in key.items()])
    with site().database.reading() as connection:
        value: Any = reach.run(connection, statement).scalar()
    if value is None:
        abort(404)
    if not field.folder:
        return bytes(value), str(field.label.text)
    found = uploads().find(field.folder, str(value))
    if found is None:
        abort(404)
    return found.read_bytes(), field.show(str(value), "")


@blueprint.get(urls.RECORD + urls.PICTURE + "<column>")
def picture(name: str, segment: str, column: str) -> ResponseReturnValue:
    """A picture of a record, made small."""
    content, _name = _held(name, segment, column)
    try:
        small, kind = cached_thumbnail(content, uploads().folder)
    except NotAnImage:
        abort(404)
    answer = Response(small, content_type=kind)
    answer.headers["Cache-Control"] = "private, no-store"
    return answer


@blueprint.get(urls.RECORD + urls.FILE + "<column>")
def file(name: str, segment: str, column: str) -> ResponseReturnValue:
    """A file of a record: a picture is shown, anything else is saved."""
    content, title = _held(name, segment, column)
    try:
        ending = ending_of(content, title, images=True)
    except NoPictureThere:
        ending = ""
    is_picture = ending in PICTURES.values()
    if "." not in title and is_picture:
        title = f"{title}.{ending}"
    answer = send_file(
        io.BytesIO(content),
        mimetype=SHOWN[ending] if is_picture else "application/octet-stream",
        as_attachment=not is_picture,
        download_name=title,
        max_age=0,
    )
    answer.headers["Content-Security-Policy"] = INERT
    answer.headers["Cache-Control"] = "private, no-store"
    return answer


@activity.get("/uploads")
def listed() -> ResponseReturnValue:
    """All that was uploaded, the latest first, with where it is used."""
    before = request.args.get("before", 0, type=int)
    found = uploads().listed(PAGE_UPLOADS + 1, before)
    more = found[PAGE_UPLOADS - 1].id if len(found) > PAGE_UPLOADS else 0
    return render_template(
        "uploads.html",
        uploads=[(each, *_used(each)) for each in found[:PAGE_UPLOADS]],
        size_text=size_text,
        more=url_for("audit.listed", before=more) if more else "",
    )


def _used(upload: Upload) -> tuple[str, str]:
    """Return the owner of an upload, and the address of its record."""
    pages = site().registry.pages.get(upload.table)
    if pages is None or upload.column not in pages.fields:
        return upload.table, ""
    words = f"{pages.singular} · {pages.label(upload.column)}"
    is_kept = upload.state == KEPT and bool(upload.key)
    return words, record_address(upload.table, upload.key) if is_kept else ""
