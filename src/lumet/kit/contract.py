"""The words that the generator writes into an application and the kit reads: plain
constants, each known on both sides by this module alone."""

RIGHTS = ("view", "add", "edit", "delete", "export")
HIDDEN, READ_ONLY, SET_ONCE = "hidden", "read-only", "set once"
FIELD_LIMITS = (HIDDEN, READ_ONLY, SET_ONCE)
ANYONE = "anyone"  # the role of who is not signed in

TABLE, CARDS, GROUPS, CHART, TREE = "table", "cards", "groups", "chart", "tree"
CALENDAR, BOARD, MAP = "calendar", "board", "map"
LAYOUTS = (TABLE, CARDS, GROUPS, CHART, TREE, CALENDAR, BOARD, MAP)
IS, NOT, FROM, TO, WITHIN = "is", "not", "from", "to", "within"
HAS, BEGINS, EMPTY, FILLED = "has", "begins", "empty", "filled"
OPERATORS = (IS, NOT, FROM, TO, WITHIN, HAS, BEGINS, EMPTY, FILLED)  # of filters
YEAR, MONTH, DAY = "year", "month", "day"
PERIODS = (YEAR, MONTH, DAY)  # by which rows with a date are grouped
NUMBER, BARS, LINE, SHARES, ROWS = "number", "bars", "line", "shares", "rows"
RECENT, VIEWS, TABLES = "recent", "views", "tables"
FIGURES = (NUMBER, BARS, LINE, SHARES, ROWS)  # of a table's rows
CARD_KINDS = (*FIGURES, RECENT, VIEWS, TABLES)
EDIT_PAGE, EDIT_CELLS = "page", "cells"  # where the rows of a list are edited
UNINDEXED = ("limited", "disabled")  # sorts and filters that no index serves

NEXT_NUMBER, NEW_UUID = "max + 1", "uuid"
GENERATED = (NEXT_NUMBER, NEW_UUID)  # values of a new record
AUTOMATIC_VALUES = ("created at", "created by", "changed at", "changed by")
MAX_GROUPS = 200  # of a list
SUM, AVERAGE = "sum", "avg"
TOTALS = (SUM, AVERAGE, "min", "max")
COLOURS = ("green", "amber", "red", "blue")
NARROW, WIDE = "narrow", "wide"  # controls
TITLE_COLUMN = "record-title"  # of a list; a column's key has no hyphen
MIN_WIDTH, MAX_WIDTH = 40, 1_200  # of a column of a list, in pixels

# formats of dates in columns of other types, as people and as strptime write them
DATES = {
    "YYYY-MM-DD": "%Y-%m-%d",
    "YYYYMMDD": "%Y%m%d",
    "YYYY/MM/DD": "%Y/%m/%d",
    "DD.MM.YYYY": "%d.%m.%Y",
    "DD/MM/YYYY": "%d/%m/%Y",
    "DD-MM-YYYY": "%d-%m-%Y",
    "MM/DD/YYYY": "%m/%d/%Y",
}
# formats of numbers, as powers of ten between what is stored and what is shown
SCALES = {"cents": 2, "fraction": -2}
DATETIMES = {
    "YYYY-MM-DD hh:mm:ss": "%Y-%m-%d %H:%M:%S",
    "YYYY-MM-DD hh:mm": "%Y-%m-%d %H:%M",
    "YYYY-MM-DDThh:mm:ss": "%Y-%m-%dT%H:%M:%S",
    "YYYY-MM-DDThh:mm": "%Y-%m-%dT%H:%M",
    "YYYY-MM-DDThh:mm:ssZ": "%Y-%m-%dT%H:%M:%SZ",
    "YYYYMMDDhhmmss": "%Y%m%d%H%M%S",
    "DD.MM.YYYY hh:mm:ss": "%d.%m.%Y %H:%M:%S",
    "DD.MM.YYYY hh:mm": "%d.%m.%Y %H:%M",
    "DD/MM/YYYY hh:mm": "%d/%m/%Y %H:%M",
    "MM/DD/YYYY hh:mm": "%m/%d/%Y %H:%M",
}
