"""Holds results of the core against scikit-image and networkx.

Arguments: a directory with dem.f32, filled.f32, directions.u8, accumulation.u32 and shape.txt.
"""
import sys
from pathlib import Path

import networkx as nx
import numpy as np
from skimage.morphology import reconstruction

d = Path(sys.argv[1])
rows, cols = (int(n) for n in (d / "shape.txt").read_text().split())
read = lambda name, kind: np.fromfile(d / name, dtype=kind).reshape(rows, cols)
dem, filled = read("dem.f32", "<f4"), read("filled.f32", "<f4")
directions, accumulation = read("directions.u8", "u1"), read("accumulation.u32", "<u4")

# Filling: greyscale reconstruction by erosion of the terrain from the footprint's edge. Nodata is
# outside: as a low seed it is a way out for its neighbours, and stays below all of them.
inside = ~np.isnan(dem)
low = np.float32(np.nanmin(dem) - 1)
mask = np.where(inside, dem, low)
seed = np.full_like(mask, mask.max())
seed[0, :], seed[-1, :], seed[:, 0], seed[:, -1] = mask[0, :], mask[-1, :], mask[:, 0], mask[:, -1]
seed[~inside] = low
# A cell beside nodata keeps its elevation, as does one at the border.
expected = reconstruction(seed, mask, method="erosion", footprint=np.ones((3, 3))).astype("f4")
assert np.array_equal(expected[inside], filled[inside]), "filled surface"
assert np.isnan(filled[~inside]).all()

# Accumulation: descendants counted on the graph of the same directions.
step = {1: (0, 1), 2: (1, 1), 4: (1, 0), 8: (1, -1), 16: (0, -1), 32: (-1, -1), 64: (-1, 0), 128: (-1, 1)}
graph = nx.DiGraph()
graph.add_nodes_from(zip(*np.nonzero(inside)))
for r, c in graph.nodes:
    move = step.get(int(directions[r, c]))
    if move:
        graph.add_edge((r, c), (r + move[0], c + move[1]))
assert graph.number_of_nodes() == inside.sum(), "directions never leave the footprint"
assert nx.is_directed_acyclic_graph(graph), "no cycles"
upstream = dict.fromkeys(graph, 0)
for node in nx.topological_sort(graph):
    for below in graph.successors(node):
        upstream[below] += upstream[node] + 1
for (r, c), count in upstream.items():
    assert accumulation[r, c] == count, (r, c, accumulation[r, c], count)
assert (accumulation[~inside] == 2**32 - 1).all() and (directions[~inside] == 255).all()

# Every outlet lies at the footprint's edge, and outlets add up to the footprint.
outlets = [n for n in graph if graph.out_degree(n) == 0]
assert sum(upstream[n] + 1 for n in outlets) == inside.sum()
print(f"{inside.sum()} cells, {len(outlets)} outlets agree")
