"""Prints the share of tests in the code, without vendored, generated and expected files."""

from pathlib import Path

TOP = Path(__file__).parent.parent
ENDINGS = {".py", ".jinja", ".html", ".js", ".css"}


def lines(folder: str) -> int:
    """Count the lines of a folder's code that are not blank."""
    return sum(
        bool(line.strip())
        for path in sorted((TOP / folder).rglob("*"))
        if path.suffix in ENDINGS
        and not {"vendor", "expected", "__pycache__"}.intersection(path.parts)
        for line in path.read_text(encoding="utf-8").splitlines()
    )


if __name__ == "__main__":
    source, tests = lines("src"), lines("tests")
    print(
        f"{tests} lines of tests beside {source} of source: {tests / source:.0%} of the"
        f" source, {tests / (source + tests):.0%} of all (meant: a quarter to a third)"
    )
