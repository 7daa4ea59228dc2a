"""Agreement of lines by buffers of GEOS (through shapely), and Student's t by scipy.stats.

Arguments: a JSON file with `modelled`, `mapped` (lists of lines), `tolerance`, `first` and `higher` (drops of streams).
Prints the matched share, the found share, and t."""
import json
import sys

from scipy import stats
from shapely import MultiLineString
from shapely.ops import unary_union

given = json.load(open(sys.argv[1]))
modelled, mapped = (MultiLineString([l for l in given[k] if len(l) > 1]) for k in ("modelled", "mapped"))
d = given["tolerance"]


def within(line, other):
    # Many corners to a quarter, so that a buffer's arcs are round.
    return line.intersection(unary_union(other.buffer(d, quad_segs=32))).length / line.length


print(within(modelled, mapped), within(mapped, modelled), stats.ttest_ind(given["first"], given["higher"]).statistic)
