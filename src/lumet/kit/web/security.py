"""Security: signed sessions, headers, no changes while viewing as another user."""

import hashlib

from flask import Flask, Response, abort, request
from flask.sessions import SecureCookieSessionInterface
from flask_babel import gettext as _

from ..pages.context import impersonation, site

POLICY = (
    "default-src 'self'; img-src 'self' data:; object-src 'none'; base-uri 'none'; "
    "frame-ancestors 'none'; form-action 'self'"
)
HEADERS = {
    "Content-Security-Policy": POLICY,
    "X-Content-Type-Options": "nosniff",
    "X-Frame-Options": "DENY",
    "Referrer-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cross-Origin-Resource-Policy": "same-origin",
    "Permissions-Policy": "camera=(), geolocation=(), microphone=(), payment=(), usb=()",
}
HTTPS_ONLY = "max-age=31536000"  # a year, once it was reached by https
WHILE_VIEWING = ("admin.begin_viewing", "admin.end_viewing", "login.sign_out")
# what is sent while nothing can be written: an export is, too
WHILE_READ_ONLY = (
    *WHILE_VIEWING,
    "login.sign_in",
    "login.first_user",
    "pages.bulk_action",
)


class SignedSessions(SecureCookieSessionInterface):
    """Sessions signed with SHA-256 where Flask's own are with SHA-1."""

    digest_method = staticmethod(hashlib.sha256)


def add_security(app: Flask, pictures: str = "") -> None:
    """Guard `app`; `pictures` is an origin that pages may show pictures from."""
    headers = HEADERS
    if pictures:
        images = f"img-src 'self' data: {pictures}"
        policy = POLICY.replace("img-src 'self' data:", images)
        headers = {**HEADERS, "Content-Security-Policy": policy}

    @app.before_request
    def change_nothing_while_looking() -> None:
        changes = request.method not in ("GET", "HEAD", "OPTIONS")
        if (
            changes
            and request.endpoint not in WHILE_VIEWING
            and impersonation() is not None
        ):
            abort(403)

    @app.before_request
    def change_nothing_while_read_only() -> None:
        changes = request.method not in ("GET", "HEAD", "OPTIONS")
        if changes and site().is_read_only and request.endpoint not in WHILE_READ_ONLY:
            abort(403, description=_("Read-only: nothing can be changed now."))

    @app.after_request
    def add_headers(response: Response) -> Response:
        given = {name.lower() for name, _value in response.headers}
        for name, value in headers.items():
            if name.lower() not in given:
                response.headers.add(name, value)
        if app.config["SESSION_COOKIE_SECURE"]:
            response.headers.setdefault("Strict-Transport-Security", HTTPS_ONLY)
        if request.endpoint not in ("static", "static_revision"):
            response.headers.setdefault("Cache-Control", "no-store")
        return response
