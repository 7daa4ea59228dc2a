"""Reads an unpacked package with rasterio and checks what it says of itself.

Arguments: the directory, the EPSG code, the number of catchments.
"""
import csv
import json
import re
import sys
from pathlib import Path

import numpy as np
import rasterio

d, epsg, count = Path(sys.argv[1]), int(sys.argv[2]), int(sys.argv[3])
one = lambda pattern: next(iter(sorted(d.glob(pattern))))
rasters = {}
for name in ("ground", "falling", "flow_direction", "flow_accumulation", "streams", "catchments"):
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

# A receiver that knows nothing but the falling surface and the threshold: steepest descent, nothing more, since no
# cell is flat and none is a sink. It finds the share of the streams that the README tells.
readme = (d / "README.txt").read_text(encoding="utf-8")
falling = rasters["falling"][0]
assert (falling[inside] >= filled[inside]).all() and (np.isnan(falling) == ~inside).all()
around = {1: (0, 1), 2: (1, 1), 4: (1, 0), 8: (1, -1), 16: (0, -1), 32: (-1, -1), 64: (-1, 0), 128: (-1, 1)}
padded = np.pad(falling.astype("f8"), 1, constant_values=np.nan)
rows, cols = falling.shape
steepest = np.full(falling.shape, 0.0)
below = np.full(falling.shape, -1, "i8")
number = np.arange(rows * cols).reshape(rows, cols)
for code, (dr, dc) in around.items():
    beside = padded[1 + dr : 1 + dr + rows, 1 + dc : 1 + dc + cols]
    drop = (falling - beside) / np.hypot(dr, dc)
    assert (drop[direction == code] > 0).all(), "each cell falls along its flow direction"
    better = drop > steepest
    steepest[better], below[better] = drop[better], (number + dr * cols + dc)[better]
cells = np.ones(rows * cols, "i8")
to = below.ravel().tolist()
for at in np.argsort(-np.where(inside, falling, -np.inf), axis=None, kind="stable")[: inside.sum()].tolist():
    if to[at] >= 0:
        cells[to[at]] += cells[at]
threshold = int(re.search(r"a stream cell has at least (\d+) cells", readme)[1])
again = (cells.reshape(rows, cols) >= threshold) & inside
order_raster, _, no_order = rasters["streams"]
delivered = inside & (order_raster > 0) & (order_raster != no_order)
share = (again & delivered).sum() / max((again | delivered).sum(), 1)
said = re.search(r"cut at that threshold, .*?(?:\(([\d.]+) %|same to the cell)", readme)
assert abs(share - (float(said[1]) / 100 if said[1] else 1.0)) < 0.01, (share, said[0])

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
assert "EPSG:%d" % epsg in readme
print(f"{len(table)} catchments and {len(ids)} reaches agree; {share:.4f} of the stream cells come out again")
