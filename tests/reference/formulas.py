"""Rasters from formulas against NumPy, figures of what lies around and distances against scipy.ndimage.

Arguments: directory of results, JSON with [name, expression for NumPy]. In expressions E is the ground surface, A the contributing
area, N the cells upstream, O the order, S the slope as the run derived it (derived_s.tif). Prints what differs, then "agree"."""
import json
import sys
import warnings
from pathlib import Path

import numpy as np
import rasterio
from scipy import ndimage

warnings.simplefilter("ignore")
np.seterr(all="ignore")
folder = Path(sys.argv[1])


def read(name):
    with rasterio.open(folder / f"{name}.tif") as file:
        values = file.read(1).astype("float64")
        nodata = file.nodata
        if nodata is not None and not np.isnan(nodata):
            values[values == nodata] = np.nan
        return values, abs(file.transform.a)


E, cell = read("ground")
N, _ = read("flow_accumulation")
O, _ = read("streams")
S, _ = read("derived_s")
A = (N + 1) * cell * cell


def single(x):
    """Comparisons are made as rasters are kept, in single precision."""
    return np.asarray(x, dtype="float64").astype("float32")


def where(condition, a, b):
    """A choice; none where the condition is none."""
    condition = np.broadcast_to(condition, E.shape)
    return np.where(np.isnan(condition), np.nan, np.where(condition == 1, a, b))


def compare(a, b, how):
    a, b = single(a), single(b)
    return np.where(np.isnan(a) | np.isnan(b), np.nan, how(a, b))


def over(a, b):
    b = np.asarray(b, dtype="float64")
    return np.where(b == 0, np.nan, np.asarray(a, dtype="float64") / np.where(b == 0, 1, b))


def ln(x):
    x = np.asarray(x, dtype="float64")
    return np.where(x > 0, np.log(np.where(x > 0, x, 1)), np.where(np.isnan(x), np.nan, np.nan))


def sqrt(x):
    x = np.asarray(x, dtype="float64")
    return np.where(x >= 0, np.sqrt(np.abs(x)), np.nan)


def away(x):
    return np.sign(x) * np.floor(np.abs(x) + 0.5)


def disc(radius):
    """Cells whose centres lie within a distance, in cells."""
    reach = int(radius + 1e-9)
    rows, cols = np.mgrid[-reach : reach + 1, -reach : reach + 1]
    return rows**2 + cols**2 <= (radius + 1e-9) ** 2


def near(x, radius, figure):
    """A figure of the values within a distance, those that are none left out; by filters with a footprint."""
    x = np.asarray(x, dtype="float64")
    around = disc(radius)
    there = ~np.isnan(x)
    count = np.rint(ndimage.correlate(there.astype("float64"), around.astype("float64"), mode="constant"))
    total = lambda: ndimage.correlate(np.where(there, x, 0.0), around.astype("float64"), mode="constant")
    high = lambda: ndimage.maximum_filter(np.where(there, x, -np.inf), footprint=around, mode="constant", cval=-np.inf)
    low = lambda: ndimage.minimum_filter(np.where(there, x, np.inf), footprint=around, mode="constant", cval=np.inf)
    found = {
        "sum": total,
        "mean": lambda: total() / np.where(count > 0, count, 1),
        "max": high,
        "min": low,
        "range": lambda: high() - low(),
    }[figure]()
    return np.where(count > 0, found, np.nan)


def distance(on):
    """Distance to the nearest marked cell."""
    return ndimage.distance_transform_edt(~on) * cell


wrong = 0
for name, expression in json.loads(Path(sys.argv[2]).read_text()):
    ours, _ = read(f"derived_{name}")
    theirs = np.broadcast_to(np.asarray(eval(expression), dtype="float64"), E.shape)
    theirs = np.where(np.abs(theirs) > 3.4028235e38, np.nan, theirs)
    none = np.isnan(ours) != np.isnan(theirs)
    apart = np.abs(ours - theirs) > 2e-6 * np.abs(theirs) + 1e-6
    if none.any() or apart.any():
        wrong += 1
        print(f"{name}: {expression}: {int(none.sum())} cells none, {int(apart.sum())} apart")
print("agree" if wrong == 0 else f"{wrong} differ")
