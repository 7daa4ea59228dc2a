"""Measures of catchments by numpy, from the rasters that a recipe wrote.

Argument: the directory of the results. Prints what differs, and at the end "agree"."""
import csv
import pathlib
import sys

import numpy as np
import rasterio

out = pathlib.Path(sys.argv[1])


def read(name):
    with rasterio.open(out / name) as raster:
        return raster.read(1), raster.transform


ground, transform = read("ground.tif")
directions, _ = read("flow_direction.tif")
streams, _ = read("streams.tif")
cell = transform.a
ground = ground.astype(float)
STEPS = {1: (0, 1), 2: (1, 1), 4: (1, 0), 8: (1, -1), 16: (0, -1), 32: (-1, -1), 64: (-1, 0), 128: (-1, 1)}
rows, cols = directions.shape
inflows = {}
for (r, c), code in np.ndenumerate(directions):
    if int(code) in STEPS:
        dr, dc = STEPS[int(code)]
        inflows.setdefault((r + dr, c + dc), []).append((r, c))


def upstream(outlet):
    """The cells of a catchment, with their distance to the outlet in cells."""
    far = {outlet: 0.0}
    open_ = [outlet]
    while open_:
        at = open_.pop()
        for n in inflows.get(at, []):
            far[n] = far[at] + np.hypot(n[0] - at[0], n[1] - at[1])
            open_.append(n)
    return far


def near(name, found, expected, tolerance):
    if abs(found - expected) > tolerance:
        print(f"{name}: {found} against {expected}")
        sys.exit(1)


# The outlet of each catchment is the cell with the largest contributing area among those of its number.
ids, _ = read("catchments.tif")
accumulation, _ = read("flow_accumulation.tif")
for row in csv.DictReader(open(out / "measures.csv", newline="")):
    if row["subbasin_id"]:
        continue
    own = np.argwhere(ids == int(row["catchment_id"]))
    outlet = max(map(tuple, own), key=lambda at: accumulation[at])
    far = upstream(outlet)
    cells = np.array(list(far))
    z = ground[cells[:, 0], cells[:, 1]]
    area = len(far) * cell * cell / 1e6
    near("area", float(row["area_km2"]), area, 1e-6)
    for name, value in {
        "least_elevation_m": z.min(),
        "most_elevation_m": z.max(),
        "mean_elevation_m": z.mean(),
        "median_elevation_m": np.median(z),
        "relief_m": z.max() - z.min(),
        "longest_flow_path_m": max(far.values()) * cell,
        "centroid_x": transform.c + (cells[:, 1].mean() + 0.5) * cell,
        "centroid_y": transform.f - (cells[:, 0].mean() + 0.5) * cell,
    }.items():
        near(name, float(row[name]), value, 0.0051)
    near("hypsometric_integral", float(row["hypsometric_integral"]), (z.mean() - z.min()) / (z.max() - z.min()), 6e-5)
    wet = [at for at in far if 0 < streams[at] < 255 and at != outlet]
    length = sum(np.hypot(*STEPS[int(directions[at])]) for at in wet) * cell
    near("stream_length_m", float(row["stream_length_m"]), length, 0.0051)
    near("drainage_density", float(row["drainage_density_km_km2"]), length / 1000 / area, 6e-5)
    inside = set(far)
    sides = sum((r + dr, c + dc) not in inside for r, c in far for dr, dc in ((0, 1), (1, 0), (0, -1), (-1, 0)))
    near("perimeter_km", float(row["perimeter_km"]), sides * cell / 1000, 1e-5)
    near("circularity", float(row["circularity"]), 4 * np.pi * area / (sides * cell / 1000) ** 2, 6e-5)
    near("form_factor", float(row["form_factor"]), area / (max(far.values()) * cell / 1000) ** 2, 6e-5)
    slope = (ground[min(far, key=lambda at: (-far[at], at))] - z.min()) / (max(far.values()) * cell)
    hours = 0.3 * (max(far.values()) * cell / 1000 / slope**0.25) ** 0.76
    near("tc_temez_h", float(row["tc_temez_h"]), hours, 6e-4)
print("agree")
