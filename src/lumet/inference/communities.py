"""Groups of tables that refer to each other, for a menu that can be read."""

from collections import Counter
from collections.abc import Iterator, Sequence
from collections.abc import Set as AbstractSet

from lumet.facts.model import Database

MOST = 12  # tables of a group; more are no longer read, but searched
MOST_TOGETHER = 16  # tables that stay in one group all the same
HUB = 0.5  # of the tables refer to it: it belongs to all of them
RESOLUTIONS = (1.0, 1.5, 2.0, 3.0, 5.0)  # the higher, the smaller the communities
FEW = 2  # tables; smaller communities are left together


def communities(database: Database, names: Sequence[str]) -> dict[str, str]:
    """Return for each of these tables the most central one of its community: those of
    Louvain (Blondel et al., 2008) in the graph of references, without the tables that
    nearly all refer to. "" stands for those that are with too few others."""
    import networkx as nx  # slow to import, and seldom needed

    edges = [
        (table.name, reference.referred_table)
        for table in database.tables
        for reference in table.references
        if reference.referred_table != table.name
    ]
    referring = Counter(end for _start, end in dict.fromkeys(edges))
    hubs = {name for name, count in referring.items() if count > HUB * len(names)}
    chosen = set(names)
    graph = nx.Graph()
    graph.add_nodes_from(sorted(chosen))
    for start, end in sorted(edges):
        if {start, end} <= chosen and not {start, end} & hubs:
            weight = graph.get_edge_data(start, end, {"weight": 0})["weight"]
            graph.add_edge(start, end, weight=weight + 1)
    found: dict[str, str] = {}
    for community in _split(nx, graph, chosen, 0):
        centre = max(sorted(community), key=lambda name: (referring[name], graph.degree(name)))  # fmt: skip
        is_few = len(community) <= FEW
        found |= dict.fromkeys(community, "" if is_few else centre)
    return found


def _split(nx: object, graph: object, members: AbstractSet[str], level: int) -> Iterator[AbstractSet[str]]:  # fmt: skip
    """Yield communities, those that are too large cut further."""
    part = graph.subgraph(members)  # type: ignore[attr-defined]
    find = nx.community.louvain_communities  # type: ignore[attr-defined]
    found = find(part, seed=1, resolution=RESOLUTIONS[level])
    for community in sorted(found, key=lambda each: (-len(each), min(each))):
        if len(community) > MOST and level + 1 < len(RESOLUTIONS):
            yield from _split(nx, graph, community, level + 1)
        else:
            yield community
