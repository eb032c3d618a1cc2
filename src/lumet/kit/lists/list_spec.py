"""The specification of a list: what its statement depends on."""

from dataclasses import dataclass

from ..contract import TITLE_COLUMN
from ..pages.table_pages import Reference
from ..queries.filters import Shape
from ..queries.title_search import Modes

Junction = tuple[()] | tuple[Reference, Reference]
TOP, BRANCH = "top", "branch"  # parts of a tree
WITH, ONLY = "with", "only"  # records marked as deleted
TITLE = TITLE_COLUMN


@dataclass(frozen=True, slots=True)
class ListSpec:
    """The specification of a list beyond its order, as far as its statement depends on
    it: the columns it shows, the shape of its filters, how many words are searched,
    whether it is read `among` keys that were found before, what becomes of records
    marked as deleted (left out, WITH them, ONLY them), which part of a tree it has:
    TOP, the records without a parent, or BRANCH, the children of the one bound as
    `p0`…"""

    columns: tuple[str, ...] | None = None
    shape: Shape = ()
    words: int = 0
    among: bool = False
    deleted: str = ""
    part: str = ""
    titled: Modes = ()
    is_folded: bool = False
    wide: tuple[str, ...] = ()  # columns that only wide windows show as well
    any_of: int = 0  # so many of the filters, the first, of which one is enough


ALL_ROWS = ListSpec()
