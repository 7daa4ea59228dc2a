"""Holds rasters of a package as NetCDF against the CF conventions (compliance-checker) and against the same rasters as GeoTIFF.

python netcdf.py DIRECTORY
"""

import pathlib
import sys

import netCDF4
import numpy
import rasterio
from compliance_checker.runner import CheckSuite

CheckSuite.load_all_available_checkers()
directory = pathlib.Path(sys.argv[1])
found = sorted(directory.glob("*.nc"))
assert len(found) >= 5, found
for path in found:
    data = netCDF4.Dataset(path)
    version = data.Conventions.split("-")[1]
    suite = CheckSuite()
    opened = suite.load_dataset(str(path))
    results = suite.run_all(opened, [f"cf:{version}" if f"cf:{version}" in suite.checkers else "cf"])
    groups = [g for groups, _ in results.values() for g in groups]
    # Only what must be so: weight 3 is high.
    wrong = [m for g in groups if g.weight == 3 and g.value[0] < g.value[1] for m in g.msgs]
    assert not wrong, (path.name, wrong)
    own = [v for v in data.variables.values() if v.ndim == 2]
    assert len(own) == 1 and own[0].long_name and own[0].grid_mapping in data.variables, path.name
    with rasterio.open(path.with_suffix(".tif")) as tif:
        expected, transform, nodata = tif.read(1), tif.transform, tif.nodata
    own[0].set_auto_mask(False)
    values = own[0][:]
    y = data.variables["y"][:]
    values = values if y[0] > y[-1] else values[::-1]
    assert numpy.array_equal(values, expected, equal_nan=expected.dtype.kind == "f"), path.name
    top = max(y[0], y[-1])
    assert abs(top - (transform.f + transform.e / 2)) < 1e-6 and abs(data.variables["x"][0] - (transform.c + transform.a / 2)) < 1e-6
    fill = own[0]._FillValue
    assert fill == nodata or (numpy.isnan(fill) and numpy.isnan(nodata)), (path.name, fill, nodata)
print(len(found), "rasters")
print("agree")
