"""Realisations of a small DEM by NumPy and SciPy, held against those of the core.

Nothing is shared with the core but the DEM and what is asked: other random numbers, the field by scipy.ndimage.gaussian_filter, filling by a heap with
a least fall, D8 by arrays. Shares of realisations then differ by chance alone.

Arguments: a directory with dem.f32, streams.f32, catchment.f32 (the core's shares) and given.json (rows, cols, cell, sd, correlation, threshold,
realisations, at, reach)."""
import heapq
import json
import sys
from pathlib import Path

import numpy as np
from scipy import ndimage

d = Path(sys.argv[1])
g = json.loads((d / "given.json").read_text())
rows, cols, cell = g["rows"], g["cols"], g["cell"]
read = lambda name: np.fromfile(d / name, dtype="<f4").reshape(rows, cols).astype("f8")
dem = read("dem.f32")
STEPS = [(0, 1), (1, 1), (1, 0), (1, -1), (0, -1), (-1, -1), (-1, 0), (-1, 1)]
random = np.random.default_rng(20061)

# White noise, smoothed by a Gaussian of standard deviation s, is correlated by exp(-d² / (4 s²)): 1/e at 2 s.
s = g["correlation"] / 2 / cell
pad = int(6 * s) + 2


def error():
    field = ndimage.gaussian_filter(random.standard_normal((rows + 2 * pad, cols + 2 * pad)), s, truncate=6)
    # The variance that is left of white noise, by the same filter on a single one.
    one = np.zeros((2 * pad + 1, 2 * pad + 1))
    one[pad, pad] = 1
    left = np.sqrt((ndimage.gaussian_filter(one, s, truncate=6) ** 2).sum())
    return g["sd"] * field[pad:-pad, pad:-pad] / left


def filled(z):
    """Priority flood with a least fall, so that every cell but those at the rim has a lower neighbour."""
    z = z.copy()
    done = np.zeros(z.shape, dtype=bool)
    heap = []
    for r in range(rows):
        for c in range(cols):
            if r in (0, rows - 1) or c in (0, cols - 1):
                heap.append((z[r, c], r, c))
                done[r, c] = True
    heapq.heapify(heap)
    while heap:
        level, r, c = heapq.heappop(heap)
        for dr, dc in STEPS:
            y, x = r + dr, c + dc
            if 0 <= y < rows and 0 <= x < cols and not done[y, x]:
                done[y, x] = True
                z[y, x] = max(z[y, x], level + 1e-6)
                heapq.heappush(heap, (z[y, x], y, x))
    return z


def routed(z):
    """Where each cell drains to (its own number at the rim where nothing is lower), and how many cells drain to it, itself counted."""
    number = np.arange(rows * cols).reshape(rows, cols)
    best, to = np.zeros((rows, cols)), number.copy()
    for dr, dc in STEPS:
        y, x = slice(max(0, -dr), rows - max(0, dr)), slice(max(0, -dc), cols - max(0, dc))
        y2, x2 = slice(max(0, dr), rows - max(0, -dr)), slice(max(0, dc), cols - max(0, -dc))
        fall = (z[y, x] - z[y2, x2]) / np.hypot(dr, dc)
        better = fall > best[y, x]
        best[y, x] = np.where(better, fall, best[y, x])
        to[y, x] = np.where(better, number[y2, x2], to[y, x])
    to = to.ravel()
    area = np.ones(rows * cols, dtype=int)
    for i in np.argsort(-z.ravel(), kind="stable"):
        if to[i] != i:
            area[to[i]] += area[i]
    return to, area


def above(to, outlet, order):
    """All that drains to a cell; order from low to high."""
    inside = np.zeros(rows * cols, dtype=bool)
    inside[outlet] = True
    for i in order:
        inside[i] |= inside[to[i]]
    return inside


centre_x, centre_y = np.meshgrid((np.arange(cols) + 0.5) * cell, (rows - np.arange(rows) - 0.5) * cell)
near = (np.hypot(centre_x - g["at"][0], centre_y - g["at"][1]) <= g["reach"]).ravel()
streams, catchment = np.zeros(rows * cols), np.zeros(rows * cols)
n = g["realisations"]
for _ in range(n):
    z = filled(dem + error())
    to, area = routed(z)
    streams += area >= g["threshold"]
    outlet = np.argmax(np.where(near, area, 0))
    catchment += above(to, outlet, np.argsort(z.ravel(), kind="stable"))

for name, theirs in (("streams", streams / n), ("catchment", catchment / n)):
    ours = read(name + ".f32").ravel()
    m = g["core"]
    both = (ours * m + theirs * n) / (m + n)
    deviation = np.sqrt(both * (1 - both) * (1 / m + 1 / n))
    open_cells = deviation > 0
    score = (ours - theirs)[open_cells] / deviation[open_cells]
    far = np.mean(np.abs(score) > 3)
    # Of normal scores three of a thousand lie beyond 3; neighbours go together, and shares near 0 and 1 are not normal.
    assert far < 0.02, f"{name}: {far:.3f} of {open_cells.sum()} cells differ by more than 3 standard errors"
    assert abs(score.mean()) < 0.5, f"{name}: on average by {score.mean():.2f} standard errors"
    assert np.abs(ours - theirs).mean() < 0.01, f"{name}: by {np.abs(ours - theirs).mean():.4f} on average"
    print(f"{name} agree: {open_cells.sum()} cells open, mean difference {np.abs(ours - theirs).mean():.4f}, score {score.mean():.2f}, sd {score.std():.2f}")
