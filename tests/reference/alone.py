"""A package of one catchment alone against that of the whole study: same cells, same figures.

Arguments: directories of both packages, the short name of the study, the name of the catchment, the name of one nested in it. Prints
what differs, and at the end "agree"."""
import csv
import pathlib
import sys

import numpy as np
import rasterio
from rasterio.windows import from_bounds

whole, part, short, outer, inner = sys.argv[1:]
whole, part = (pathlib.Path(d) / short for d in (whole, part))
wrong = []


def table(base, name):
    with open(f"{base}_{name}.csv", newline="", encoding="utf-8") as file:
        return list(csv.DictReader(file))


def same(what, a, b):
    if a != b:
        wrong.append(f"{what}: {a} in the whole, {b} alone")


for name in ("ground", "flow_direction", "flow_accumulation", "streams"):
    with rasterio.open(f"{whole}_{name}.tif") as a, rasterio.open(f"{part}_{name}.tif") as b:
        window = from_bounds(*b.bounds, a.transform)
        ours, theirs = a.read(1, window=window), b.read(1)
        known = b.read_masks(1) > 0 if name != "ground" else ~np.isnan(theirs)
        if name == "ground":
            land, cell = known, abs(b.transform.a * b.transform.e) / 1e6
        if name == "flow_direction":
            # Water leaves at the outlet, the cell that all others drain to.
            out = land & (ours != theirs)
            same("cells that drain elsewhere", 1, int(np.count_nonzero(out)))
            same("code at the outlet", [0], theirs[out].tolist())
            ours[out] = 0
        if not np.array_equal(ours[land], theirs[land]):
            wrong.append(f"{name}: {np.count_nonzero(ours[land] != theirs[land])} cells differ")
        if not np.array_equal(known, land):
            wrong.append(f"{name}: not nodata outside the catchment")

of = {r["name"]: r for r in table(whole, "catchments")}
alone = {r["name"]: r for r in table(part, "catchments")}
same("names", sorted([outer, inner]), sorted(alone))
for name in (outer, inner):
    for column in ("area_km2", "perimeter_km", "touches_edge"):
        same(f"{column} of {name}", of[name][column], alone[name][column])
area = float(alone[outer]["area_km2"])
same("cells", round(area / cell), int(np.count_nonzero(land)))

parts = table(part, "subbasins")
total = sum(float(r["area_km2"]) for r in parts)
if abs(total - area) > 1e-4 * area:
    wrong.append(f"sub-basins have {total} km², the catchment {area}")
ends = [r for r in parts if not r["downstream_subbasin_id"]]
same("sub-basins that drain to no other", 1, len(ends))

figures = {r["name"]: r for r in table(whole, "measures") if not r["subbasin_id"]}
own = {r["name"]: r for r in table(part, "measures") if not r["subbasin_id"]}
for name in (outer, inner):
    for column, value in figures[name].items():
        if column not in ("catchment_id", "subbasin_id"):
            same(f"{column} of {name}", value, own[name][column])

print("\n".join(wrong) if wrong else "agree")
