"""A co-operative of workshops: 150 tables in 15 modules, made by a pattern."""

from bench.labelled import LabelledColumn, LabelledTable

MODULES = ("glass", "rope", "sail", "cask", "bell", "lamp", "anchor", "oar", "net", "mast",
           "keel", "pump", "chart", "buoy", "tar")  # fmt: skip


def large() -> list[LabelledTable]:
    """Return the tables, with what a person would say of them."""
    found = []
    for module in MODULES:
        found += [
            _table(f"{module}_grade", 8, "name", _code("code", "G"), _name()),
            _table(f"{module}_shop", 30, "name", _id(), _name(), _ref("grade_code", f"{module}_grade", "code")),
            _table(f"{module}_smith", 40, "last_name+first_name|first_name+last_name", _id(), _plain("first_name", "first"), _plain("last_name", "last"), _ref("shop_id", f"{module}_shop")),
            _table(f"{module}_tool", 120, "name", _id(), _name(), _ref("keeper_id", f"{module}_smith"), _count()),
            _table(f"{module}_job", 400, "shop_id+begun_on", _id(), _ref("shop_id", f"{module}_shop"), _ref("smith_id", f"{module}_smith"), _date("begun_on"), _choice("state")),
            _table(f"{module}_job_step", 900, "job_id+step_no|job_id+name|name", _ref("job_id", f"{module}_job"), LabelledColumn("step_no", "INTEGER", "lines:job_id", "code"), _plain("name", "label"), parent=f"{module}_job"),
            _table(f"{module}_tool_use", 600, "tool_id+job_id|job_id+tool_id", _ref("tool_id", f"{module}_tool"), _ref("job_id", f"{module}_job")),
            _table(f"{module}_visit", 200, "shop_id+seen_on|smith_id+seen_on", _id(), _ref("smith_id", f"{module}_smith"), _date("seen_on"), _ref("shop_id", f"{module}_shop")),
            _table(f"{module}_rate", 50, "shop_id+from_day", _id(), _ref("shop_id", f"{module}_shop"), _date("from_day"), LabelledColumn("price_eur", "DECIMAL(8,2)", "money", "money")),
            _table(f"{module}_note", 150, "job_id+written_on|subject", _id(), _ref("job_id", f"{module}_job"), _plain("subject", "label"), _date("written_on")),
        ]  # fmt: skip
    return found


def _table(
    name: str, rows: int, titles: str, *columns: LabelledColumn, parent: str = ""
) -> LabelledTable:
    listed = [tuple(each.split("+")) for each in titles.split("|")]
    return LabelledTable(name, rows, listed, parent, list(columns))


def _id() -> LabelledColumn:
    return LabelledColumn("id", "INTEGER", "seq", "code")


def _name() -> LabelledColumn:
    return LabelledColumn("name", "VARCHAR(40)", "name", "text")


def _code(name: str, lead: str) -> LabelledColumn:
    return LabelledColumn(name, "VARCHAR(6)", f"code:{lead}", "text")


def _plain(name: str, maker: str) -> LabelledColumn:
    return LabelledColumn(name, "VARCHAR(40)", maker, "text")


def _date(name: str) -> LabelledColumn:
    return LabelledColumn(name, "DATE", "date", "date")


def _count() -> LabelledColumn:
    return LabelledColumn("pieces", "INTEGER", "int:1..30", "integer")


def _choice(name: str) -> LabelledColumn:
    return LabelledColumn(name, "VARCHAR(10)", "pick:open,waiting,done", "choice")


def _ref(name: str, table: str, column: str = "id") -> LabelledColumn:
    return LabelledColumn(
        name,
        "INTEGER" if column == "id" else "VARCHAR(6)",
        "ref",
        "lookup",
        (table, column),
    )
