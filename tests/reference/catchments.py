"""Catchments, sub-basins, inflows, basins and a boundary by networkx, shapely, rasterio and scipy, from what a recipe wrote.

Arguments: the directory of the results, the file of sites, the file of the boundary (both GeoJSON in the CRS of the study), the least
area of an inflow in km². Prints what differs, and at the end "agree"."""
import csv
import json
import pathlib
import sqlite3
import sys

import networkx as nx
import numpy as np
import rasterio
import rasterio.features
import shapely
from scipy import ndimage

out, sites_file, boundary_file, least = sys.argv[1:]
out, least = pathlib.Path(out), float(least)


def read(name):
    with rasterio.open(out / name) as raster:
        return raster.read(1), raster.transform


def layer(name):
    """Rows of a layer of catchments.gpkg, with their shapes."""
    db = sqlite3.connect(out / "catchments.gpkg")
    db.row_factory = sqlite3.Row
    rows = []
    for row in db.execute(f'SELECT * FROM "{name}"'):
        row = dict(row)
        blob = row.pop("geom")
        # The header of a GeoPackage geometry (OGC 12-128, 2.1.3): magic, version, flags, SRS, envelope.
        envelope = [0, 32, 48, 48, 64][(blob[3] >> 1) & 7]
        rows.append((row, shapely.from_wkb(blob[8 + envelope :])))
    return rows


def near(what, found, expected, tolerance):
    if abs(found - expected) > tolerance:
        print(f"{what}: {found} against {expected}")
        sys.exit(1)


def same(what, found, expected):
    if found != expected:
        print(f"{what}: {found} against {expected}")
        sys.exit(1)


directions, transform = read("flow_direction.tif")
ground, _ = read("ground.tif")
cell = transform.a
km2 = cell * cell / 1e6
STEPS = {1: (0, 1), 2: (1, 1), 4: (1, 0), 8: (1, -1), 16: (0, -1), 32: (-1, -1), 64: (-1, 0), 128: (-1, 1)}
graph = nx.DiGraph()
for at, code in np.ndenumerate(directions):
    if code == 255:
        continue
    graph.add_node(at)
    if int(code) in STEPS:
        dr, dc = STEPS[int(code)]
        graph.add_edge(at, (at[0] + dr, at[1] + dc))


def contributing(at):
    return len(nx.ancestors(graph, at)) + 1


def cell_of(point):
    return int((transform.f - point.y) // cell), int((point.x - transform.c) // cell)


def inside(polygons):
    """Cells of the footprint whose centres lie in polygons."""
    mask = rasterio.features.rasterize(polygons, directions.shape, transform=transform, all_touched=False)
    return (mask == 1) & (directions != 255)


# Catchments: all that drains to the cell of the pour point.
points = {row["catchment_id"]: cell_of(shape) for row, shape in layer("pour_points")}
catchments = layer("catchments")
same("catchments", sorted(points), sorted(row["catchment_id"] for row, _ in catchments))
for row, shape in catchments:
    same("validity", shapely.is_valid_reason(shape), "Valid Geometry")
    area = contributing(points[row["catchment_id"]]) * km2
    near("area of a catchment", row["area_km2"], area, 1e-6)
    near("outline of a catchment", shape.area / 1e6, area, 0.001 * area)

# Sub-basins: no gap, no overlap, and those that drain to one are what drains to its outlet.
subbasins = layer("subbasins")
shapes = [shape for _, shape in subbasins]
for row, shape in subbasins:
    same("validity", shapely.is_valid_reason(shape), "Valid Geometry")
    near("outline of a sub-basin", shape.area / 1e6, row["area_km2"], 0.001 * row["area_km2"] + 1e-9)
whole = shapely.union_all(shapes)
near("overlap", whole.area, sum(shape.area for shape in shapes), 1e-6 * whole.area)
land = shapely.union_all([shape for _, shape in catchments])
near("land outside sub-basins", land.symmetric_difference(whole).area, 0.0, 1e-6 * whole.area)
below = {row["subbasin_id"]: row["downstream_subbasin_id"] for row, _ in subbasins}
for own, next_ in below.items():
    if next_ is not None and not next_ > own:
        same("numbers rise downstream", (own, next_), None)
roots = [own for own, next_ in below.items() if next_ is None]
drained = nx.DiGraph([(own, next_) for own, next_ in below.items() if next_ is not None])
drained.add_nodes_from(below)
areas = {row["subbasin_id"]: row["area_km2"] for row, _ in subbasins}
outermost = {round(row["area_km2"], 6) for row, _ in catchments if row["within_catchment_id"] is None}
for root in roots:
    total = sum(areas[own] for own in nx.ancestors(drained, root) | {root})
    if not any(abs(total - area) < 1e-5 for area in outermost):
        same("land of an outermost catchment", total, outermost)

# Zonal figures of sub-basins by scipy, where outlines are those of cells.
if abs(max(s.area / (cell * cell) - round(s.area / (cell * cell)) for s in shapes)) < 1e-6:
    pairs = [(shape, row["subbasin_id"]) for row, shape in subbasins]
    ids = rasterio.features.rasterize(pairs, directions.shape, transform=transform, dtype="int32")
    numbers = np.array(sorted(areas))
    z = ground.astype(float)
    figures = {
        "mean_elevation_m": ndimage.mean(z, ids, numbers),
        "least_elevation_m": ndimage.minimum(z, ids, numbers),
        "most_elevation_m": ndimage.maximum(z, ids, numbers),
        "median_elevation_m": ndimage.median(z, ids, numbers),
    }
    told = {int(r["subbasin_id"]): r for r in csv.DictReader(open(out / "measures.csv", newline="")) if r["subbasin_id"]}
    same("rows of sub-basins", sorted(told), sorted(areas))
    for name, values in figures.items():
        for number, value in zip(numbers, values):
            near(name, float(told[int(number)][name]), value, 0.006)

# Inflows: every crossing into a site from the outside, by its contributing area.
for number, feature in enumerate(json.load(open(sites_file))["features"], 1):
    mask = inside([shapely.geometry.shape(feature["geometry"])])
    crossings = {}
    for a, b in graph.edges:
        if mask[b] and not mask[a]:
            area = contributing(a) * km2
            if area >= least - 1e-12:
                crossings[a] = area
    found = {cell_of(shape): row for row, shape in layer("inflows") if row["site_id"] == number}
    same("inflows", sorted(found), sorted(crossings))
    for at, row in found.items():
        near("area of an inflow", row["area_km2"], crossings[at], 1e-6)
    ranks = [found[at]["rank"] for at in sorted(found, key=lambda at: -crossings[at])]
    same("ranks", sorted(ranks), list(range(1, len(ranks) + 1)))
    # All that enters, once: cells outside from which water comes to the site.
    enters = set().union(*(nx.ancestors(graph, at) for at in map(tuple, np.argwhere(mask)))) if mask.any() else set()
    enters = sum(1 for at in enters if not mask[at]) * km2
    told = next(s for s in json.load(open(out / "summary.json"))["sites"] if s["site_id"] == number)
    near("all that enters a site", told["entering_km2"], enters, 1e-6)

# Basins of the footprint are the parts of the graph that hang together.
basins = layer("basins")
parts = sorted((len(part) * km2 for part in nx.weakly_connected_components(graph)), reverse=True)
same("number of basins", len(basins), len(parts))
for (row, _), area in zip(sorted(basins, key=lambda b: b[0]["basin_id"]), parts):
    near("area of a basin", row["area_km2"], area, 1e-6)

# The boundary, cell by cell.
features = json.load(open(boundary_file))["features"]
theirs = inside([shapely.geometry.shape(f["geometry"]) for f in features])
facts = json.load(open(out / "summary.json"))["boundary"]
ours = np.zeros(directions.shape, bool)
outlet = points[facts["catchment_id"]]
for at in nx.ancestors(graph, outlet) | {outlet}:
    ours[at] = True
pieces = layer("boundary_difference")
for held_by, mask in [("catchment", ours & ~theirs), ("boundary", theirs & ~ours)]:
    total = sum(row["area_km2"] for row, _ in pieces if row["held_by"] == held_by)
    near(f"held by the {held_by} alone", total, mask.sum() * km2, 1e-5)
    same("pieces", sum(row["held_by"] == held_by for row, _ in pieces), ndimage.label(mask)[1])
near("both", facts["catchment_km2"] - facts["only_catchment_km2"], (ours & theirs).sum() * km2, 1e-6)
print("agree")
