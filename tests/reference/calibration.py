"""Agreement of lines by buffers of GEOS (through shapely), Student's t by scipy.stats, and distances between cells by
scipy.ndimage.

Arguments: a JSON file with `modelled`, `mapped` (lists of lines), `tolerance`, `first` and `higher` (drops of streams),
`shape` (rows, columns), `passed` and `streams` (numbers of the cells that mapped lines pass, and of stream cells).
Prints the matched share, the found share, t, and the mean distance of stream cells from passed ones, in cells."""
import json
import sys

import numpy as np
from scipy import ndimage, stats
from shapely import MultiLineString
from shapely.ops import unary_union

given = json.load(open(sys.argv[1]))
modelled, mapped = (MultiLineString([l for l in given[k] if len(l) > 1]) for k in ("modelled", "mapped"))
d = given["tolerance"]


def within(line, other):
    # Many corners to a quarter, so that a buffer's arcs are round.
    return line.intersection(unary_union(other.buffer(d, quad_segs=32))).length / line.length


away = np.ones(given["shape"], dtype=bool)
away.ravel()[given["passed"]] = False
mean = ndimage.distance_transform_edt(away).ravel()[given["streams"]].mean()
t = stats.ttest_ind(given["first"], given["higher"]).statistic
print(within(modelled, mapped), within(mapped, modelled), t, mean)
