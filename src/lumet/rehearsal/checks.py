"""All checks of a rehearsal, in their order."""

from lumet.rehearsal.filters import FilterChecks
from lumet.rehearsal.findings import Figures, Timing
from lumet.rehearsal.forms import FormChecks
from lumet.rehearsal.health import HealthChecks
from lumet.rehearsal.lists import ListChecks
from lumet.rehearsal.records import RecordChecks
from lumet.rehearsal.rehearsal import Rehearsal
from lumet.rehearsal.rights import RightChecks

SLOW = 1.0  # seconds that a page may take


def rehearse(rehearsal: Rehearsal) -> Figures:
    """Rehearse every table; forms that add and delete come last."""
    for name in rehearsal.tables:
        if rehearsal.is_compared(name):
            _read(rehearsal, name)
    for name in rehearsal.tables:
        _act(rehearsal, name)
    _note_slow(rehearsal)
    return rehearsal.figures


def _read(rehearsal: Rehearsal, name: str) -> None:
    """Look at a table without changing it."""
    pages = rehearsal.pages(name)
    if rehearsal.list_address(name):
        lists, filters = ListChecks(rehearsal, name), FilterChecks(rehearsal, name)
        for title, check in (
            ("orders and pages", lists.check_orders),
            ("layouts", lists.check_layouts),
            ("groups", lists.check_groups),
            ("titles", lists.check_titles),
            ("exports", lists.check_exports),
            ("search", filters.check_search),
            ("filters", filters.check_filters),
        ):
            with rehearsal.part(title, name):
                check()
    if pages.key:
        with rehearsal.part("records", name):
            RecordChecks(rehearsal, name).check_pages()
    with rehearsal.part("data", name):
        HealthChecks(rehearsal, name).check()


def _act(rehearsal: Rehearsal, name: str) -> None:
    """Open a table's pages as every role, and send its forms."""
    pages = rehearsal.pages(name)
    with rehearsal.part("pages of every role", name):
        RightChecks(rehearsal, name).check_pages()
    with rehearsal.part("rows within reach", name):
        RightChecks(rehearsal, name).check_reach()
    if not rehearsal.is_compared(name):
        return
    if not rehearsal.is_written(name):
        why = rehearsal.choice.unsafe.get(name, "")
        if why:
            rehearsal.figures.skipped.append((name, why))
        return
    if pages.key and pages.offers("edit") and rehearsal.may("edit", name):
        with rehearsal.part("unchanged forms", name):
            RecordChecks(rehearsal, name).check_unchanged()
    with rehearsal.part("what is forbidden", name):
        RightChecks(rehearsal, name).check_refusals()
    if pages.offers("add") and rehearsal.may("add", name):
        with rehearsal.part("new records", name):
            FormChecks(rehearsal, name).check_adding()


def _note_slow(rehearsal: Rehearsal) -> None:
    """Note each kind of page that takes over a second, at its worst."""
    worst: dict[tuple[str, str], Timing] = {}
    for each in rehearsal.figures.timings:
        known = worst.get((each.table, each.kind))
        if each.kind == "export":  # it is a file, and takes what it takes
            continue
        if each.seconds > SLOW and (known is None or each.seconds > known.seconds):
            worst[each.table, each.kind] = each
    for each in worst.values():
        detail = f"{each.seconds:.1f} s, {each.queries} queries"
        rehearsal.notice("slow page", each.table, each.address, detail)
