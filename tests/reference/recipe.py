"""Reads what `bothros run` leaves, with rasterio and sqlite, and checks what the contract says of it.

Arguments: the directory, the EPSG code, the routing method.
"""
import json
import sqlite3
import sys
from pathlib import Path

import numpy as np
import rasterio

d, epsg, method = Path(sys.argv[1]), int(sys.argv[2]), sys.argv[3]
expected = {
    "ground.tif": ("float32", None), "conditioned.tif": ("float32", None), "flow_direction.tif": ("uint8", 255),
    "flow_accumulation.tif": ("uint32", 4294967295) if method == "d8" else ("float64", -1),
    "weighted_accumulation.tif": ("float64", -1), "streams.tif": ("uint8", 255), "catchments.tif": ("uint32", None),
}
rasters, places = {}, set()
for name, (kind, nodata) in expected.items():
    with rasterio.open(d / name) as r:
        assert r.crs.to_epsg() == epsg and r.dtypes[0] == kind, (name, r.crs, r.dtypes)
        assert nodata is None or r.nodata == nodata, (name, r.nodata)
        assert r.tags(ns="IMAGE_STRUCTURE").get("LAYOUT") == "COG", name
        assert r.descriptions[0], name
        rasters[name], _ = r.read(1), places.add((r.transform, r.shape))
assert len(places) == 1, "all on one grid"
transform = places.pop()[0]
cell = transform.a
direction, accumulation = rasters["flow_direction.tif"], rasters["flow_accumulation.tif"].astype("f8")
weighted, streams, ids = rasters["weighted_accumulation.tif"], rasters["streams.tif"], rasters["catchments.tif"]
inside = direction != 255
outlets = inside & (direction == 0)
assert abs((accumulation[outlets] + 1).sum() - inside.sum()) < 1e-6, "mass is kept"
assert np.allclose(weighted[inside], 2 * accumulation[inside], rtol=1e-9), "weights of 2 are twice the cells"
# Falls everywhere, even over flats: `flat_slope` was asked for.
z = rasters["conditioned.tif"].astype("f8")
for code, (dr, dc) in {1: (0, 1), 2: (1, 1), 4: (1, 0), 8: (1, -1), 16: (0, -1), 32: (-1, -1), 64: (-1, 0), 128: (-1, 1)}.items():
    r, c = np.nonzero(direction == code)
    fall = z[r, c] - z[r + dr, c + dc]
    assert (fall > 0).all() and (fall >= 0.0001 * np.hypot(dr, dc) * cell - 1e-4).all(), "a way down from each cell"

network = sqlite3.connect(d / "network.gpkg")
network.row_factory = sqlite3.Row
layers = {r[0]: r[1] for r in network.execute("select table_name, srs_id from gpkg_contents")}
assert layers == {"reaches": epsg, "junctions": epsg, "main_stems": epsg}, layers
reaches = {r["reach_id"]: r for r in network.execute("select * from reaches")}
for r in reaches.values():
    below = reaches.get(r["downstream_reach_id"])
    assert r["downstream_reach_id"] is None or below is not None
    assert below is None or (below["strahler"] >= r["strahler"] and below["contributing_area_km2"] >= r["contributing_area_km2"] or method != "d8")
    # A reach of one cell at an outlet has no length, and no slope.
    slope = r["drop_m"] / r["length_m"] if r["length_m"] > 0 else 0.0
    # Lengths are written to a centimetre, slopes to a millionth.
    assert abs(r["slope"] - slope) <= 1e-6 + 0.01 / max(r["length_m"], 1)
heads = sum(1 for r in reaches.values() if r["shreve"] == 1)
assert sum(r["shreve"] for r in reaches.values() if r["downstream_reach_id"] is None) == heads
assert heads == network.execute("select count(*) from junctions where kind = 'headwater'").fetchone()[0]
assert (streams[inside] > 0).sum() > 0 and streams[inside].max() == max(r["strahler"] for r in reaches.values())

basins = sqlite3.connect(d / "catchments.gpkg")
basins.row_factory = sqlite3.Row
layers = {r[0] for r in basins.execute("select table_name from gpkg_contents")}
assert layers == {"catchments", "subbasins", "pour_points"}, layers
catchments = {r["catchment_id"]: r for r in basins.execute("select * from catchments")}
assert {r["name"] for r in catchments.values()} == {"mouth", "upper, old"}
inner = {r["within_catchment_id"]: r["catchment_id"] for r in catchments.values()}
for key, r in catchments.items():
    nested = (ids == inner[key]).sum() if key in inner else 0
    assert abs(r["area_km2"] - ((ids == key).sum() + nested) * cell**2 / 1e6) <= 0.5e-6, "area is cells, to a square metre"
subbasins = [dict(r) for r in basins.execute("select * from subbasins")]
number = {s["subbasin_id"] for s in subbasins}
assert all(s["downstream_subbasin_id"] is None or s["downstream_subbasin_id"] in number for s in subbasins)
for key in catchments:
    own = sum(s["area_km2"] for s in subbasins if s["catchment_id"] == key)
    parts = sum(1 for s in subbasins if s["catchment_id"] == key)
    assert abs(own - (ids == key).sum() * cell**2 / 1e6) <= 0.5e-6 * parts, "sub-basins add up to the catchment"
for p in basins.execute("select * from pour_points"):
    moved = np.hypot(p["snapped_x"] - p["given_x"], p["snapped_y"] - p["given_y"])
    assert abs(moved - p["moved_m"]) <= 0.006 and moved <= 30.001
summary = json.loads((d / "summary.json").read_text())
assert summary["routing"] == method and summary["peak_memory_bytes"] > 0 and summary["steps"]
assert sum(o["reaches"] for o in summary["network"]["reaches_by_order"]) == len(reaches)
print(f"{len(reaches)} reaches, {len(subbasins)} sub-basins agree")
