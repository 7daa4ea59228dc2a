"""Reads an unpacked package with rasterio and checks what it says of itself.

Arguments: the directory, the EPSG code, the number of catchments.
"""
import csv
import json
import sys
from pathlib import Path

import numpy as np
import rasterio

d, epsg, count = Path(sys.argv[1]), int(sys.argv[2]), int(sys.argv[3])
one = lambda pattern: next(iter(sorted(d.glob(pattern))))
rasters = {}
for name in ("ground", "flow_direction", "flow_accumulation", "catchments"):
    with rasterio.open(one(f"*_{name}.tif")) as r:
        assert r.crs.to_epsg() == epsg, (name, r.crs)
        assert r.tags(ns="IMAGE_STRUCTURE").get("LAYOUT") == "COG", name
        assert r.descriptions[0], name
        rasters[name] = (r.read(1), r.transform, r.nodata)
filled, direction, accum, catchments = (
    rasters[n][0] for n in ("ground", "flow_direction", "flow_accumulation", "catchments")
)
transforms = {r[1] for r in rasters.values()}
assert len(transforms) == 1, "all on one grid"
cell = abs(transforms.pop().a)
inside = ~np.isnan(filled)
assert rasters["flow_direction"][2] == 255 and rasters["flow_accumulation"][2] == 2**32 - 1
assert ((direction == 255) == ~inside).all() and ((accum == 2**32 - 1) == ~inside).all()
outlets = direction == 0
assert (accum[outlets].astype("i8") + 1).sum() == inside.sum(), "mass is kept"

with open(one("*_catchments.csv"), newline="", encoding="utf-8") as f:
    table = list(csv.DictReader(f))
assert len(table) == count
with open(one("*_pour_points.csv"), newline="", encoding="utf-8") as f:
    points = {row["catchment_id"]: row for row in csv.DictReader(f)}
for row in table:
    # Whole catchments, nested ones included: what the table tells is the accumulation there.
    t = rasters["flow_accumulation"][1]
    point = points[row["catchment_id"]]
    c, r = ~t * (float(point["snapped_x"]), float(point["snapped_y"]))
    cells = int(accum[int(r), int(c)]) + 1
    assert abs(float(row["area_km2"]) - cells * cell**2 / 1e6) <= 0.5e-6, row

streams = json.loads(one("*_reaches.geojson").read_text())
ids = {f["properties"]["reach_id"] for f in streams["features"]}
assert len(ids) == len(streams["features"]) > 0
order = {f["properties"]["reach_id"]: f["properties"]["strahler"] for f in streams["features"]}
for f in streams["features"]:
    p = f["properties"]
    below = p["downstream_reach_id"]
    assert below is None or order[below] >= p["strahler"]
    lon, lat = f["geometry"]["coordinates"][0]
    assert -180 <= lon <= 180 and -90 <= lat <= 90
assert "EPSG:%d" % epsg in (d / "README.txt").read_text(encoding="utf-8")
print(f"{len(table)} catchments and {len(ids)} reaches agree")
