"""The Shapefiles of a package against its GeoPackage: same features, same values, a known CRS.

They are read with pyshp, which shares no code with what wrote them. Arguments: directory of the package, short name of the study, EPSG code.
Prints what differs, and at the end "agree"."""
import csv
import pathlib
import sqlite3
import sys

import shapefile
from rasterio.crs import CRS

base = pathlib.Path(sys.argv[1]) / sys.argv[2]
epsg = int(sys.argv[3])
wrong = []
db = sqlite3.connect(f"{base}_network.gpkg")
db.row_factory = sqlite3.Row
layers = [r[0] for r in db.execute("select table_name from gpkg_contents")]
with open(f"{base}_shapefile_fields.csv", newline="", encoding="utf-8") as file:
    names = {(row["layer"], row["field"]): row["column"] for row in csv.DictReader(file)}
compared = 0
for layer in layers:
    with open(f"{base}_{layer}.prj", encoding="utf-8") as file:
        if CRS.from_wkt(file.read()).to_epsg(confidence_threshold=70) != epsg:
            wrong.append(f"{layer}: CRS")
    with open(f"{base}_{layer}.cpg", encoding="ascii") as file:
        if file.read().strip() != "UTF-8":
            wrong.append(f"{layer}: encoding")
    other = list(db.execute(f'select * from "{layer}" order by fid'))
    with shapefile.Reader(f"{base}_{layer}.shp", encoding="utf-8") as reader:
        fields = [f[0] for f in reader.fields[1:]]
        if any(len(f) > 10 for f in fields) or len(set(fields)) < len(fields):
            wrong.append(f"{layer}: fields {fields}")
        if [names.get((layer, f)) for f in fields] != [k for k in (other[0].keys() if other else []) if k not in ("fid", "geom")] and other:
            wrong.append(f"{layer}: columns {fields}")
        if len(reader) != len(other):
            wrong.append(f"{layer}: {len(reader)} features, {len(other)} in the GeoPackage")
        for mine, row in zip(reader.iterShapeRecords(), other):
            if not mine.shape.points:
                wrong.append(f"{layer}: no shape")
            for field in fields:
                a, b = mine.record[field], row[names[layer, field]]
                same = abs(a - b) <= 1e-9 * max(abs(b), 1) if isinstance(b, (int, float)) and a is not None else (a or None) == (b or None)
                if not same:
                    wrong.append(f"{layer}.{field}: {a!r}, {b!r} in the GeoPackage")
                compared += 1
print(*wrong[:20], f"{len(layers)} layers, {compared} values", sep="\n")
print("agree" if not wrong and compared else "differ")
