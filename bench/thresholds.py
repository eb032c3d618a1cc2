"""Sensitivity of the inference: what each threshold's neighbours do to the scores on the
labelled databases.

    python -m bench.thresholds
"""

import importlib
from collections.abc import Iterator

from bench.inference import Score, judge_all

# By module: the constants, each with values below and above its own.
THRESHOLDS: dict[str, dict[str, tuple[float, ...]]] = {
    "inference.references": {
        "USED": (0.6, 0.8),
        "SAME": (0.85, 0.95),
        "CLEAR": (0.7, 0.9),
        "TOLERANT": (0.6, 0.85),
        "SIMILAR": (0.55, 0.72),
        "LOOSE": (0.35, 0.6),
        "FAR": (0.4, 0.8),
        "WIDE": (0.2, 0.6),
        "SOME": (0.1, 0.5),
        "RIVAL": (0.25, 0.75),
        "MAX_ORPHANS": (0.05, 0.4),
        "ENOUGH_ROWS": (10, 100),
        "DISTINCTIVE": (2, 8),
        "MANY": (5, 20),
        "FEW": (2, 10),
    },
    "inference.kinds": {
        "AGREES": (0.9, 1.0),
        "LONG_TEXT": (40, 160),
        "MAX_CHOICES": (6, 24),
        "MAX_CHOICE_LENGTH": (15, 60),
        "MANY_A_VALUE": (5, 60),
    },
    "inference.relations": {"IN_PLACE": (1.5, 3.5), "MAX_IN_PLACE": (20, 200)},
    "inference.tables": {"SMALL": (30, 300)},
    "evidence.patterns": {"NEARLY_ALL": (0.8, 1.0)},
    "evidence.profiling": {"REPEATS": (2, 15), "MAX_VALUES": (12, 60)},
    "evidence.inclusion_dependencies": {"MOSTLY": (0.6, 0.95), "HALF": (0.3, 0.8)},
    "evidence.storage_format_detection": {"PROBED": (0.5, 1.0)},
}


def total() -> dict[str, Score]:
    """Return the scores over all labelled databases."""
    found = {name: Score() for name in ("references", "titles", "kinds", "detail rows")}
    for _name, _count, scores, _seconds in judge_all():
        for name, score in scores.items():
            found[name].add(score)
    return found


def figures() -> str:
    """Return the scores as one line."""
    found = total()
    return (
        f"references F1 {found['references'].f1:.3f}   titles {found['titles'].recall:.3f}"
        f"   kinds {found['kinds'].recall:.3f}   detail rows F1 {found['detail rows'].f1:.3f}"
    )


def variations() -> Iterator[tuple[str, str, float, str]]:
    """Yield each threshold with another value, and the scores with it."""
    for module, constants in THRESHOLDS.items():
        owner = importlib.import_module(f"lumet.{module}")
        for name, values in constants.items():
            own = getattr(owner, name)
            for value in values:
                setattr(owner, name, value)
                yield module, name, value, figures()
            setattr(owner, name, own)


def main() -> None:
    """Print the scores as they are, then with each threshold varied."""
    print(f"{'as it is':<52}{figures()}")
    for module, name, value, scores in variations():
        print(f"{module + '.' + name:<44}{value:>6g}  {scores}", flush=True)


if __name__ == "__main__":
    main()
