"""Where streams begin, by NumPy, held against the core: area times slope to a power, and the area of converging land.

Slopes by Horn 1981 and plan curvature by Zevenbergen and Thorne 1987 from the papers; sums and largest values down D8 in the order of accumulation.

Arguments: a directory with filled.f32, directions.u8, accumulation.u32, slope_area.u32, converging.u32 (the core's) and given.json (rows, cols, cell,
exponent, at_slope, curvature)."""
import json
import sys
from pathlib import Path

import numpy as np

d = Path(sys.argv[1])
g = json.loads((d / "given.json").read_text())
shape = (g["rows"], g["cols"])
read = lambda name, kind: np.fromfile(d / name, dtype=kind).reshape(shape)
z, codes = read("filled.f32", "<f4").astype("f8"), read("directions.u8", "u1")
area = read("accumulation.u32", "<u4").astype("i8")
cell = g["cell"]
padded = np.pad(z, 1, constant_values=np.nan)


def at(dr, dc):
    """The neighbour of each cell; the cell itself where there is none."""
    beside = padded[1 + dr : 1 + dr + shape[0], 1 + dc : 1 + dc + shape[1]]
    return np.where(np.isnan(beside), z, beside)


east = (at(-1, 1) + 2 * at(0, 1) + at(1, 1) - at(-1, -1) - 2 * at(0, -1) - at(1, -1)) / (8 * cell)
north = (at(-1, -1) + 2 * at(-1, 0) + at(-1, 1) - at(1, -1) - 2 * at(1, 0) - at(1, 1)) / (8 * cell)
slope = np.hypot(east, north)

p, q = (at(0, 1) - at(0, -1)) / (2 * cell), (at(-1, 0) - at(1, 0)) / (2 * cell)
r = (at(0, 1) - 2 * z + at(0, -1)) / cell**2
t = (at(-1, 0) - 2 * z + at(1, 0)) / cell**2
s = (at(-1, 1) - at(-1, -1) - at(1, 1) + at(1, -1)) / (4 * cell**2)
steep = p * p + q * q
bent = np.divide(q * q * r - 2 * p * q * s + p * p * t, steep, out=np.zeros(shape), where=steep > 0)

STEPS = {1: (0, 1), 2: (1, 1), 4: (1, 0), 8: (1, -1), 16: (0, -1), 32: (-1, -1), 64: (-1, 0), 128: (-1, 1)}
order = np.argsort(area, axis=None, kind="stable")
below = {}
for index in order:
    row, col = divmod(int(index), shape[1])
    step = STEPS.get(int(codes[row, col]))
    below[int(index)] = None if step is None else (row + step[0]) * shape[1] + col + step[1]


def down(own, join):
    out = own.flatten()
    for index in order:
        to = below[int(index)]
        if to is not None:
            out[to] = join(out[to], out[int(index)])
    return out.reshape(shape)


most = area.max() + 1
weighed = np.minimum((area + 1) * (slope / g["at_slope"]) ** g["exponent"], most)
ours = read("slope_area.u32", "<u4").astype("i8")
ours[ours == 2**32 - 1] = -1
theirs = np.floor(down(weighed, max)) - 1
off = np.abs(ours - theirs) > 1 + 1e-5 * np.abs(theirs)
assert not off.any(), f"slope and area: {off.sum()} cells differ, {ours[off][:5]} {theirs[off][:5]}"
assert len(np.unique(ours)) > 100

counted = (bent > g["curvature"]).astype("f8")
sums = down(counted, lambda a, b: a + b)
ours = read("converging.u32", "<u4").astype("i8") + 1
ours[ours == 2**32] = 0
assert (ours == sums).all(), f"converging land: {(ours != sums).sum()} cells differ"
assert 0 < counted.mean() < 0.5
print("beginnings agree")
