"""Places a picture by points with NumPy's least squares (singular values, numpy.linalg.lstsq): prints the six numbers and
the residuals. Arguments: a JSON file of tie points, each with `picture` and `ground`."""
import json
import sys

import numpy as np

points = json.load(open(sys.argv[1]))
picture = np.array([[1.0, *p["picture"]] for p in points])
ground = np.array([p["ground"] for p in points])
# Coordinates of a map are large; they are fitted about their mean.
shift = ground.mean(axis=0)
found = np.linalg.lstsq(picture, ground - shift, rcond=None)[0]
(x, y), (a, d), (b, e) = found
print(x + shift[0], a, b, y + shift[1], d, e)
print(*np.hypot(*(picture @ found - (ground - shift)).T))
