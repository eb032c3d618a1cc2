"""Reports of a rehearsal: JSON, JUnit XML, a page, and the baseline of known failures."""

import json
from collections.abc import Collection, Sequence
from dataclasses import asdict, dataclass
from datetime import datetime
from importlib.resources import files
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

from jinja2 import Environment

from lumet.errors import LumetError
from lumet.rehearsal.findings import Figures, Finding, Timing

SLOWEST = 20  # pages in a report
FORMAT = 1


@dataclass(frozen=True, slots=True)
class About:
    """What was rehearsed, when, and how: the words after `lumet rehearse`."""

    application: str
    began: datetime
    seconds: float
    arguments: str
    notes: Sequence[str] = ()


def fresh_failures(figures: Figures, known: Collection[str]) -> list[Finding]:
    """Return the failures that are not known already."""
    return [each for each in figures.failures if each.key not in known]


def read_baseline(path: Path) -> frozenset[str]:
    """Return the failures that a baseline knows. Raises LumetError for another file."""
    try:
        content = json.loads(path.read_text("utf-8"))
        return frozenset(content["failures"])
    except FileNotFoundError as error:
        raise LumetError(f"There is no file {path}.", "Write one: --write-baseline FILE") from error  # fmt: skip
    except (ValueError, KeyError, TypeError) as error:
        raise LumetError(f"{path} is no baseline of a rehearsal.") from error


def baseline(figures: Figures) -> str:
    """Return the text of a baseline with all failures."""
    keys = sorted({each.key for each in figures.failures})
    return json.dumps({"format": FORMAT, "failures": keys}, indent=1) + "\n"


def slowest(figures: Figures) -> list[Timing]:
    """Return the slowest page of each kind and table, the slowest first."""
    worst: dict[tuple[str, str], Timing] = {}
    for each in figures.timings:
        known = worst.get((each.table, each.kind))
        if known is None or each.seconds > known.seconds:
            worst[each.table, each.kind] = each
    return sorted(worst.values(), key=lambda each: -each.seconds)[:SLOWEST]


def as_json(figures: Figures, about: About, known: Collection[str]) -> dict[str, Any]:
    """Return the report for programs."""
    return {
        "application": about.application,
        "began": about.began.isoformat(timespec="seconds"),
        "seconds": round(about.seconds, 1),
        "figures": {name: getattr(figures, name) for name in ("pages", "forms", "writes", "refusals", "rows", "forbidden")},
        "failures": [{**asdict(each), "known": each.key in known} for each in figures.failures],
        "notices": [asdict(each) for each in figures.notices],
        "skipped": [{"table": table, "reason": why} for table, why in figures.skipped],
        "slowest": [asdict(each) for each in slowest(figures)],
        "notes": [*about.notes],
    }  # fmt: skip


def as_junit(figures: Figures, about: About, known: Collection[str]) -> str:
    """Return the report as JUnit XML: a case for each part of each table."""
    suite = ElementTree.Element(
        "testsuite", name=f"rehearsal of {about.application}", tests=str(len(figures.parts)),
        time=f"{about.seconds:.1f}", timestamp=about.began.isoformat(timespec="seconds"),
    )  # fmt: skip
    failed = 0
    for part in figures.parts:
        case = ElementTree.SubElement(suite, "testcase", classname=part.table, name=part.name, time=f"{part.seconds:.3f}")  # fmt: skip
        wrong = [f for f in part.findings if f in figures.failures and f.key not in known]  # fmt: skip
        failed += bool(wrong)
        if wrong:
            said = "\n".join(str(each) for each in wrong)
            ElementTree.SubElement(case, "failure", message=str(wrong[0])).text = said
    suite.set("failures", str(failed))
    ElementTree.indent(suite)
    return ElementTree.tostring(suite, encoding="unicode", xml_declaration=True) + "\n"


def as_html(figures: Figures, about: About, known: Collection[str]) -> str:
    """Return the report as a page that needs no other file."""
    source = files("lumet.rehearsal").joinpath("report.html.jinja").read_text("utf-8")
    made = Environment(autoescape=True, trim_blocks=True, lstrip_blocks=True)
    kinds: dict[str, list[Finding]] = {}
    for each in (*figures.failures, *figures.notices):
        kinds.setdefault(each.kind, []).append(each)
    return made.from_string(source).render(
        about=about, figures=figures, known=known, kinds=kinds, slowest=slowest(figures),
        fresh=fresh_failures(figures, known),
    )  # fmt: skip
