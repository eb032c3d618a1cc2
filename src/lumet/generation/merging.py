"""Merging three versions of a file, line by line: what a person made of it, what was
generated last, and what is generated now.

Where only one side changed, its lines hold. Where both did, the person's stay and the
place is a conflict. Synchronisation is by the longest common runs of lines (difflib),
so that neighbouring changes are one place.
"""

import tomllib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from difflib import SequenceMatcher, unified_diff

from jinja2 import Environment, TemplateSyntaxError

CONFLICT = ".conflict"  # behind the path of a file with conflicts
_NO_END = "\\ No newline at end of file\n"
Lines = Sequence[bytes]


@dataclass(frozen=True, slots=True)
class Merge:
    """The result of a merge. `text` holds the person's lines wherever there is a
    conflict, `generated` the generated ones; `base` is what the next merge compares
    with: the generated lines, but those before where there is a conflict, so that it
    stays one until it is resolved. `lines` are the places of the conflicts in `text`,
    from 1."""

    text: bytes
    generated: bytes
    base: bytes
    lines: tuple[int, ...] = ()


@dataclass(frozen=True, slots=True)
class _Region:
    """Lines of the three versions that belong together."""

    mine: Lines
    before: Lines
    new: Lines

    @property
    def is_conflict(self) -> bool:
        """Tell whether both sides changed these lines, each in its own way."""
        changed = self.before not in (self.mine, self.new)
        return changed and self.mine != self.new

    def parts(self) -> list["_Region"]:
        """Return the lines one by one where each was changed by one side at most: in
        code that declares, neighbouring lines do not depend on each other."""
        if not self.is_conflict or not len(self.mine) == len(self.before) == len(self.new):  # fmt: skip
            return [self]
        lines = zip(self.mine, self.before, self.new, strict=True)
        found = [_Region([a], [b], [c]) for a, b, c in lines]
        return [self] if any(each.is_conflict for each in found) else found


def merge(mine: bytes, before: bytes, new: bytes) -> Merge:
    """Merge three versions of a text; `mine` may have the ends of lines of Windows."""
    has_returns = b"\r\n" in mine and b"\r\n" not in new
    versions = (mine.replace(b"\r\n", b"\n") if has_returns else mine, before, new)
    text: list[bytes] = []
    generated: list[bytes] = []
    base: list[bytes] = []
    places = []
    regions = _regions(*(each.splitlines(keepends=True) for each in versions))
    for region in (part for whole in regions for part in whole.parts()):
        if region.is_conflict:
            places.append(len(text) + 1)
            text += region.mine
            generated += region.new
            base += region.before
            continue
        merged = region.new if region.mine == region.before else region.mine
        text += merged
        generated += merged
        base += region.new
    if has_returns:
        for lines in (text, generated):
            lines[:] = [line.replace(b"\n", b"\r\n") for line in lines]
    mine, new, before = (b"".join(each) for each in (text, generated, base))
    return Merge(mine, new, before, tuple(places))


def whole_conflict(mine: bytes, before: bytes | None, new: bytes) -> Merge:
    """Return a merge that leaves the whole file as the person has it."""
    return Merge(mine, new, before if before is not None else b"", (1,))


def _regions(mine: list[bytes], before: list[bytes], new: list[bytes]) -> Iterator[_Region]:  # fmt: skip
    """Yield the regions of the versions, in their order: the lines that all three have,
    and what stands between."""
    ends = [0, 0, 0]
    for places, length in _common(mine, before, new):
        if ends != places:
            yield _between(mine, before, new, ends, places)
        same = before[places[1] : places[1] + length]
        yield _Region(same, same, same)
        ends = [place + length for place in places]
    sizes = [len(mine), len(before), len(new)]
    if ends != sizes:
        yield _between(mine, before, new, ends, sizes)


def _between(
    mine: list[bytes],
    before: list[bytes],
    new: list[bytes],
    begin: Sequence[int],
    end: Sequence[int],
) -> _Region:
    versions = (mine, before, new)
    return _Region(*(v[b:e] for v, b, e in zip(versions, begin, end, strict=True)))


def _common(
    mine: list[bytes], before: list[bytes], new: list[bytes]
) -> Iterator[tuple[list[int], int]]:
    """Yield the runs of lines that all three versions have: where each begins in them,
    and how long it is."""
    ours = SequenceMatcher(None, before, mine, autojunk=False).get_matching_blocks()
    theirs = SequenceMatcher(None, before, new, autojunk=False).get_matching_blocks()
    first = second = 0
    while first < len(ours) and second < len(theirs):
        one, other = ours[first], theirs[second]
        begin = max(one.a, other.a)
        end = min(one.a + one.size, other.a + other.size)
        if begin < end:
            places = [one.b + begin - one.a, begin, other.b + begin - other.a]
            yield places, end - begin
        if one.a + one.size < other.a + other.size:
            first += 1
        else:
            second += 1


def is_valid(content: bytes, path: str) -> bool:
    """Tell whether a merged file can be read as what it is: Python, a template or
    TOML."""
    try:
        if path.endswith(".py"):
            compile(content, path, "exec", dont_inherit=True)
        elif path.endswith(".html"):
            Environment(autoescape=True).parse(content.decode())
        elif path.endswith(".toml"):
            tomllib.loads(content.decode())
    except (SyntaxError, ValueError, TemplateSyntaxError):
        return False
    return True


def conflict_text(path: str, merged: Merge) -> bytes:
    """Return the text that lists the conflicts of a file: a patch (unified diff) from
    the person's lines to the generated ones, with what to do above it."""
    copy = f"{path}{CONFLICT}"
    head = (
        f"You edited lines of {path} that are generated differently now.\n"
        "Yours were kept. To take the generated ones:  git apply " + copy + "\n"
        "To keep yours: edit the file as it should be, then delete this one.\n\n"
    )
    mine, generated = (
        [line.decode(errors="surrogateescape") for line in each.splitlines(True)]
        for each in (merged.text, merged.generated)
    )
    found = []
    for line in unified_diff(mine, generated, f"a/{path}", f"b/{path}"):
        found.append(line if line.endswith("\n") else f"{line}\n{_NO_END}")
    return (head + "".join(found)).encode(errors="surrogateescape")
