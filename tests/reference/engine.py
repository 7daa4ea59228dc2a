"""Holds the engine against general-purpose libraries: NumPy, SciPy, NetworkX, scikit-image, GDAL.

Arguments: a directory with raw little-endian arrays, shape.txt (rows, columns, edge of a cell in metres,
stream threshold in cells), outlets.txt (row and column of each pour point), sinks.txt, reaches.txt and
polygons.json.
"""
import json
import subprocess
import sys
from pathlib import Path

import networkx as nx
import numpy as np
import rasterio
from rasterio.features import rasterize, shapes
from rasterio.transform import from_origin
from scipy import ndimage
from scipy.sparse import coo_matrix, identity
from scipy.sparse.linalg import spsolve
from skimage.measure import label as label_equal

d = Path(sys.argv[1])
first = (d / "shape.txt").read_text().split()
rows, cols, cell, threshold = int(first[0]), int(first[1]), float(first[2]), int(first[3])
read = lambda name, kind: np.fromfile(d / name, dtype=kind).reshape(rows, cols)
dem, filled, d8 = read("dem.f32", "<f4"), read("filled.f32", "<f4"), read("d8.u8", "u1")
z = filled.astype("f8")
inside = ~np.isnan(filled)
n = int(inside.sum())
number = np.full((rows, cols), -1)
number[inside] = np.arange(n)
STEP = {1: (0, 1), 2: (1, 1), 4: (1, 0), 8: (1, -1), 16: (0, -1), 32: (-1, -1), 64: (-1, 0), 128: (-1, 1)}


def shifted(a, dr, dc, nothing):
    out = np.full(a.shape, nothing, dtype=a.dtype)
    r0, r1, c0, c1 = max(0, -dr), rows - max(0, dr), max(0, -dc), cols - max(0, dc)
    out[r0:r1, c0:c1] = a[r0 + dr : r1 + dr, c0 + dc : c1 + dc]
    return out


def upstream_of(shares):
    """Solves x = Pt (x + 1) for shares {(dr, dc): array}: what arrives at each cell."""
    i, j, v = [], [], []
    for (dr, dc), share in shares.items():
        at = (share > 0) & inside
        to = shifted(number, dr, dc, -1)[at]
        assert (to >= 0).all(), "flow never leaves but at outlets"
        i.append(number[at]), j.append(to), v.append(share[at])
    p = coo_matrix((np.concatenate(v), (np.concatenate(i), np.concatenate(j))), shape=(n, n)).tocsc()
    return spsolve((identity(n, format="csc") - p.T).tocsc(), p.T @ np.ones(n))


def agree(what, ours, theirs, tolerance):
    worst = np.nanmax(np.abs(ours - theirs) / (1 + np.abs(theirs)))
    assert worst <= tolerance, f"{what}: off by {worst}"


told = []

# MFD, Freeman 1991: shares by slope to the power of 1.1 among lower neighbours; flats by D8.
falls = {}
for dr, dc in STEP.values():
    fall = (z - shifted(z, dr, dc, np.nan)) / np.hypot(dr, dc)
    falls[dr, dc] = np.where(fall > 0, fall, 0.0)
whole = sum(f**1.1 for f in falls.values())
with np.errstate(invalid="ignore"):
    mfd = {m: np.where(whole > 0, f**1.1 / np.where(whole > 0, whole, 1), 0.0) for m, f in falls.items()}
for code, move in STEP.items():
    mfd[move] = np.where((whole == 0) & (d8 == code), 1.0, mfd[move])
agree("MFD", read("mfd.f64", "<f8")[inside], upstream_of(mfd), 1e-9)
told.append("MFD")

# D-infinity, Tarboton 1997, equations 1 to 6 and table 1, with cells of edge 1.
angles = read("angles.f32", "<f4")
table = [((0, 1), (-1, 1), 0, 1), ((-1, 0), (-1, 1), 1, -1), ((-1, 0), (-1, -1), 1, 1), ((0, -1), (-1, -1), 2, -1),
         ((0, -1), (1, -1), 2, 1), ((1, 0), (1, -1), 3, -1), ((1, 0), (1, 1), 3, 1), ((0, 1), (1, 1), 4, -1)]
steepest, way = np.zeros((rows, cols)), np.full((rows, cols), np.nan)
for e1, e2, ac, af in table:
    a, b = shifted(z, *e1, np.nan), shifted(z, *e2, np.nan)
    s1, s2 = z - a, a - b
    r, s = np.arctan2(s2, s1), np.hypot(s1, s2)
    low, high = r < 0, r > np.pi / 4
    r, s = np.where(low, 0.0, r), np.where(low, s1, s)
    r, s = np.where(high, np.pi / 4, r), np.where(high, (z - b) / np.sqrt(2), s)
    better = (s > steepest) & ~np.isnan(s)
    steepest, way = np.where(better, s, steepest), np.where(better, af * r + ac * np.pi / 2, way)
sloping = inside & (steepest > 0) & (d8 != 0)
off = np.abs(np.angle(np.exp(1j * (angles[sloping].astype("f8") - way[sloping]))))
assert off.max() < 1e-5, f"D-infinity angles: off by {off.max()}"
eighth = np.where(inside & (angles >= 0), angles.astype("f8") / (np.pi / 4), 0)
before, past = np.floor(eighth).astype(int) % 8, eighth - np.floor(eighth)
before, past = np.where(past > 1 - 1e-6, (before + 1) % 8, before), np.where((past < 1e-6) | (past > 1 - 1e-6), 0.0, past)
ccw = [(0, 1), (-1, 1), (-1, 0), (-1, -1), (0, -1), (1, -1), (1, 0), (1, 1)]
flows = inside & (angles >= 0)
dinf = {m: np.where(flows & (before == k), 1 - past, 0.0) + np.where(flows & ((before + 1) % 8 == k), past, 0.0)
        for k, m in enumerate(ccw)}
agree("D-infinity", read("dinf.f64", "<f8")[inside], upstream_of(dinf), 1e-9)
told.append("D-infinity")

# Orders, magnitudes, catchments and distances on a graph of the D8 directions.
graph = nx.DiGraph()
graph.add_nodes_from(zip(*np.nonzero(inside)))
for r, c in list(graph):
    move = STEP.get(int(d8[r, c]))
    if move:
        graph.add_edge((r, c), (r + move[0], c + move[1]), length=np.hypot(*move) * cell)
area = dict.fromkeys(graph, 1)
order_of_work = list(nx.topological_sort(graph))
for node in order_of_work:
    for below in graph.successors(node):
        area[below] += area[node]
streams = read("streams.u8", "u1")
strahler, shreve = {}, {}
for node in order_of_work:
    if area[node] < threshold:
        continue
    above = [u for u in graph.predecessors(node) if u in strahler]
    highest = max((strahler[u] for u in above), default=0)
    strahler[node] = max(1, highest + (sum(strahler[u] == highest for u in above) > 1))
    shreve[node] = max(1, sum(shreve[u] for u in above))
expected = np.zeros((rows, cols), "u1")
for (r, c), order in strahler.items():
    expected[r, c] = order
assert (expected == streams).all(), "Strahler orders"
for row in (d / "reaches.txt").read_text().splitlines():
    r, c, order, magnitude = (int(v) for v in row.split())
    assert (strahler[r, c], shreve[r, c]) == (order, magnitude), "Shreve magnitudes"
told.append("orders")

outlets = [tuple(int(v) for v in row.split()) for row in (d / "outlets.txt").read_text().splitlines()]
cut = graph.copy()
for outlet in outlets:
    cut.remove_edges_from(list(cut.out_edges(outlet)))
catchments = np.zeros((rows, cols), "<u4")
for part in nx.weakly_connected_components(cut):
    for at, outlet in enumerate(outlets, 1):
        if outlet in part:
            catchments[tuple(np.array(list(part)).T)] = at
ours = read("catchments.u32", "<u4")
assert (ours == catchments).all(), "catchments"
told.append("catchments")

far = {}
for node in reversed(order_of_work):
    far[node] = next(((graph[node][b]["length"] + far[b]) for b in graph.successors(node)), 0.0)
expected = np.full((rows, cols), np.nan)
expected[tuple(np.array(list(far)).T)] = list(far.values())
agree("distance to outlet", read("to_outlet.f32", "<f4")[inside], expected[inside], 1e-6)
told.append("distances")

# Sinks: regions raised to one level (scikit-image), with what they hold (scipy.ndimage).
raised = inside & (filled > dem)
levels = np.zeros((rows, cols), "i4")
levels[raised] = 1 + np.unique(filled[raised], return_inverse=True)[1]
regions = label_equal(levels, background=0, connectivity=2)
ids = np.arange(1, regions.max() + 1)
volumes = ndimage.sum(np.where(raised, filled.astype("f8") - dem, 0), regions, ids) * cell**2
depths = ndimage.maximum(np.where(raised, filled - dem, 0), regions, ids)
sinks = np.loadtxt(d / "sinks.txt", ndmin=2)
assert len(sinks) == len(ids), f"{len(sinks)} sinks against {len(ids)}"
agree("sinks' volumes", np.sort(sinks[:, 0]), np.sort(volumes), 1e-6)
agree("sinks' depths", np.sort(sinks[:, 1]), np.sort(depths), 1e-6)
told.append("sinks")

# Topographic position: mean over a disc by convolution (scipy.ndimage).
radius = 5
y, x = np.ogrid[-radius : radius + 1, -radius : radius + 1]
disc = (x * x + y * y <= radius * radius).astype("f8")
total = ndimage.convolve(np.where(inside, z, 0), disc, mode="constant")
count = ndimage.convolve(inside.astype("f8"), disc, mode="constant")
with np.errstate(invalid="ignore", divide="ignore"):
    agree("topographic position", read("position.f32", "<f4")[inside], (z - total / count)[inside], 1e-4)
told.append("position")

# Slope, aspect and hillshade by GDAL (Horn 1981), away from edges, which it treats otherwise.
profile = dict(driver="GTiff", width=cols, height=rows, count=1, crs="EPSG:32628",
               transform=from_origin(500000, 4700000, cell, cell))
with rasterio.open(d / "filled.tif", "w", dtype="float32", nodata=-9999, **profile) as out:
    out.write(np.where(inside, filled, -9999), 1)
inner = ndimage.binary_erosion(inside, np.ones((3, 3)), border_value=0)


def gdaldem(what, *options):
    subprocess.run(["gdaldem", what, *options, d / "filled.tif", d / f"{what}.tif"], check=True, capture_output=True)
    with rasterio.open(d / f"{what}.tif") as r:
        return r.read(1)


agree("slope", read("slope.f32", "<f4")[inner], gdaldem("slope", "-p")[inner] / 100, 1e-5)
aspect, theirs = read("aspect.f32", "<f4"), gdaldem("aspect")
# GDAL works in single precision, which on nearly level ground does not tell the way it faces.
facing = inner & (aspect >= 0) & (theirs >= 0) & (read("slope.f32", "<f4") > 0.02)
off = np.abs((aspect[facing] - theirs[facing] + 180) % 360 - 180)
assert off.max() < 0.05, f"aspect: off by {off.max()}"
assert ((aspect >= 0) == (theirs >= 0))[inner].all(), "level ground"
shade = gdaldem("hillshade", "-az", "315", "-alt", "45")
# GDAL gives 1 to 255.
assert np.abs(1 + 254 * read("shade.f32", "<f4") - shade)[inner].max() < 1.01, "hillshade"
told.append("slope, aspect, hillshade")

# Polygons: burned again they are the catchments (GDAL), with the area that GDAL's own polygons have.
transform = profile["transform"]
polygons = json.loads((d / "polygons.json").read_text())
geometry = [({"type": "MultiPolygon", "coordinates": p["polygons"]}, p["id"]) for p in polygons]
again = rasterize(geometry, out_shape=(rows, cols), transform=transform, dtype="uint32")
assert (again == ours).all(), "polygons"
theirs = list(shapes(ours.astype("int32"), mask=ours > 0, connectivity=4, transform=transform))
parts = {}
for shape, value in theirs:
    parts[value] = parts.get(value, 0) + 1
assert parts == {p["id"]: len(p["polygons"]) for p in polygons}, "parts of polygons"
rings = lambda coordinates: sum(len(polygon) for polygon in coordinates)
assert sum(len(s["coordinates"]) for s, _ in theirs) == sum(rings(p["polygons"]) for p in polygons), "rings"
told.append("polygons")
print(", ".join(told), "agree")
