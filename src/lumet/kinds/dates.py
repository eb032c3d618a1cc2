"""Kinds of dates and times."""

from lumet.kinds.base import FieldSource, Kind

_PLAIN = {"integer": "integer", "decimal": "decimal", "float": "decimal",
          "date": "date", "datetime": "datetime"}  # fmt: skip


class Date(Kind):
    """A date."""

    name = "date"
    meaning = "a date, in the format of the user"
    field = "DateField"
    keys = ("storage_format",)
    types = ("date",)
    storage = ("Date", "YYYY-MM-DD")
    list_rank = 1


class Time(Kind):
    """A time of day."""

    name = "time"
    meaning = "a time of day"
    field = "TimeField"
    types = ("time",)


class DateTime(Kind):
    """A date with a time of day."""

    name = "datetime"
    meaning = "a date and a time of day, in the zone of the user"
    field = "DateTimeField"
    synonyms = ("timestamp",)
    keys = ("time_zone", "storage_format")
    types = ("datetime",)
    storage = ("DateTime", "YYYY-MM-DD hh:mm:ss")
    list_rank = 1

    def arguments(self, source: FieldSource) -> list[str]:
        if source.column.type.timezone:
            return ["zoned=True"]
        zone = source.decided.time_zone
        return [f"time_zone={zone!r}"] if zone else []


class Duration(Kind):
    """A length of time."""

    name = "duration"
    meaning = "a length of time, such as 2 h 30 min"
    field = "DurationField"
    words = frozenset({"duration", "elapsed", "length", "lasts", "took"})

    def plainer(self, source: FieldSource) -> str:
        type_ = source.column.type
        is_interval = type_.native.lower().startswith("interval")
        if is_interval or type_.kind == "time":
            return ""
        return super().plainer(source) or _PLAIN.get(type_.kind, "text")

    def arguments(self, source: FieldSource) -> list[str]:
        return ["clock=True"] if source.column.type.kind == "time" else []


KINDS: tuple[Kind, ...] = (Date(), Time(), DateTime(), Duration())
