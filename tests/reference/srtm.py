"""Writes a real 3-arc-second SRTM tile as a GeoTIFF in geographic coordinates.

The tile (Jacksboro fault, Tennessee) ships inside the matplotlib package as sample data.
"""
import sys

import numpy as np
import rasterio
from matplotlib import cbook
from rasterio.transform import from_origin

with cbook.get_sample_data("jacksboro_fault_dem.npz") as dem:
    z = dem["elevation"].astype("int16")
    dx, dy = float(dem["dx"]), float(dem["dy"])
    west, north = float(dem["xmin"]), float(dem["ymax"])

with rasterio.open(
    sys.argv[1], "w", driver="GTiff", width=z.shape[1], height=z.shape[0], count=1, dtype="int16",
    crs="EPSG:4326", transform=from_origin(west, north, abs(dx), abs(dy)), nodata=-32768,
) as out:
    out.write(z, 1)
