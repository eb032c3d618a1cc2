"""The locale of the present user: language, time zone, time."""

from datetime import date, datetime
from zoneinfo import ZoneInfo

from flask import current_app, g, has_request_context
from flask_babel import get_locale
from flask_login import current_user

TIME_ZONE = "TIME_ZONE"  # of the application: where a user has chosen none


def language() -> str:
    """Return the language in which the present user writes."""
    return str(get_locale() or "en")


def zone() -> ZoneInfo:
    """Return the time zone of the present user, else the application's."""
    if not has_request_context():
        return ZoneInfo("UTC")
    if "zone" not in g:
        name = getattr(current_user, "time_zone", "")
        g.zone = ZoneInfo(name or current_app.config[TIME_ZONE])
    found: ZoneInfo = g.zone
    return found


def now() -> datetime:
    """Return the present user's local date and time, without a zone."""
    return datetime.now(zone()).replace(tzinfo=None)


def today() -> date:
    """Return the present user's day."""
    return now().date()
