"""Holds the features of a study (OGC API - Features) and the catalogue of studies (STAC) against general-purpose libraries.

python api.py ADDRESS STUDY [LARGE]

Windows are read of the rasters of the study LARGE, or of those of STUDY.

OpenAPI is checked by openapi-spec-validator and schemathesis, GeoJSON by the library geojson and by the schema that geojson.org publishes (it comes
with pystac), boxes by shapely, the reading of layers by
GDAL, the catalogue by pystac, and windows of rasters by rasterio, through a proxy that counts bytes.
"""

import http.server
import importlib.resources
import json
import sys
import threading
import urllib.error
import urllib.parse
import urllib.request

import geojson
import openapi_spec_validator
import pyogrio
import rasterio
import rasterio.warp
import schemathesis
import shapely
import shapely.geometry
from hypothesis import HealthCheck, Phase, given, settings
from jsonschema import Draft7Validator
from pystac.validation.local_validator import LocalValidator

address, study = sys.argv[1].rstrip("/"), sys.argv[2]
root = f"{address}/studies/{study}/ogc"
CRS84 = "http://www.opengis.net/def/crs/OGC/1.3/CRS84"


# https://geojson.org/schema/Feature.json
published = Draft7Validator(json.loads(importlib.resources.files("pystac.validation.jsonschemas.geojson").joinpath("Feature.json").read_text()))


def get(url, accept=None):
    request = urllib.request.Request(url, headers={"Accept": accept} if accept else {})
    try:
        with urllib.request.urlopen(request, timeout=60) as answer:
            return answer.status, dict(answer.headers), answer.read()
    except urllib.error.HTTPError as error:
        return error.code, dict(error.headers), error.read()


def read(url):
    status, headers, body = get(url)
    assert status == 200, (url, status, body[:300])
    return json.loads(body), headers


def link(document, rel, kind=None):
    found = [l["href"] for l in document["links"] if l["rel"] == rel and kind in (None, l.get("type"))]
    assert found, (rel, document["links"])
    return found[0]


# OGC 17-069r4, clauses 7.2 to 7.4: the landing page leads to all else.
landing, _ = read(root)
spec, headers = read(link(landing, "service-desc"))
assert headers["content-type"].startswith("application/vnd.oai.openapi+json;version=3.0"), headers
openapi_spec_validator.validate(spec)
classes, _ = read(link(landing, "conformance"))
assert "http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/core" in classes["conformsTo"]
status, headers, body = get(root, "text/html")
assert headers["content-type"].startswith("text/html") and b"Collections" in body
collections, _ = read(link(landing, "data"))
print("collections", " ".join(c["id"] for c in collections["collections"]))
assert len(collections["collections"]) == 8

for of in collections["collections"]:
    alone, _ = read(link(of, "self"))
    assert alone == of, of["id"]
    items = link(of, "items", "application/geo+json")
    # Clause 7.15: paging meets every feature once.
    features, page = [], items + "&limit=3"
    while page:
        one, headers = read(page)
        assert headers["content-type"].startswith("application/geo+json")
        assert headers["content-crs"] == f"<{CRS84}>"
        assert one["numberReturned"] == len(one["features"]) <= 3
        assert geojson.loads(json.dumps(one)).is_valid, of["id"]
        for feature in one["features"]:
            published.validate(feature)
        features += one["features"]
        following = [l["href"] for l in one["links"] if l["rel"] == "next"]
        page = following[0] if following else None
    assert len({f["id"] for f in features}) == len(features) == one["numberMatched"], of["id"]
    shapes = [shapely.geometry.shape(f["geometry"]) for f in features]
    # RFC 7946, 3.1.6: outer rings run against the clock.
    for shape in shapes:
        for part in getattr(shape, "geoms", [shape]):
            if part.geom_type == "Polygon":
                assert part.exterior.is_ccw and not any(hole.is_ccw for hole in part.interiors), of["id"]
    w, s, e, n = (float(v) for v in shapely.total_bounds(shapes))
    # Boxes of a quarter, a ninth, the middle, and one that meets nothing.
    thirds = lambda a, b, at: a + (b - a) * at / 3
    for box in [
        (w, s, (w + e) / 2, (s + n) / 2),
        (thirds(w, e, 1), thirds(s, n, 1), thirds(w, e, 2), thirds(s, n, 2)),
        (thirds(w, e, 2), s, e, n),
        (w - 1, s - 1, w - 0.5, s - 0.5),
        (-180, -90, 180, 90),
    ]:
        asked = f"{items}&limit=10000&bbox={','.join(repr(v) for v in box)}"
        ids = {f["id"] for f in read(asked)[0]["features"]}
        # A hand's breadth more or less is rounding.
        large, small = shapely.box(*box).buffer(1e-7), shapely.box(*box).buffer(-1e-7)
        may = {f["id"] for f, shape in zip(features, shapes) if shape.intersects(large)}
        must = {f["id"] for f, shape in zip(features, shapes) if not small.is_empty and shape.intersects(small)}
        assert must <= ids <= may, (of["id"], box)
    # Attributes.
    for name, value in features[0]["properties"].items():
        if value is None or isinstance(value, bool):
            continue
        asked = f"{items}&limit=10000&{urllib.parse.urlencode({name: value})}"
        ids = {f["id"] for f in read(asked)[0]["features"]}
        assert ids == {f["id"] for f in features if f["properties"][name] == value}, (of["id"], name)
    # OGC 18-058r1: the study's own CRS, and boxes in it.
    own = of["storageCrs"]
    epsg = int(own.rsplit("/", 1)[1])
    first, headers = read(f"{items}&limit=1&crs={own}")
    assert headers["content-crs"] == f"<{own}>"
    there = shapely.geometry.shape(first["features"][0]["geometry"])
    here = rasterio.warp.transform_geom("EPSG:4326", f"EPSG:{epsg}", features[0]["geometry"])
    assert shapely.hausdorff_distance(there, shapely.geometry.shape(here)) < 0.01, of["id"]
    inside = ",".join(repr(v) for v in there.bounds)
    ids = [f["id"] for f in read(f"{items}&limit=10000&bbox={inside}&bbox-crs={own}")[0]["features"]]
    assert features[0]["id"] in ids, of["id"]
    single, _ = read(f"{root}/collections/{of['id']}/items/{features[0]['id']}")
    assert single["properties"] == features[0]["properties"] and single["geometry"] == features[0]["geometry"]
    for wrong in ["limit=0", "limit=many", "offset=-1", "bbox=1,2,3", "crs=here", "bbox-crs=here", "datetime=soon", "depth=3", "f=xml"]:
        status, _, body = get(f"{root}/collections/{of['id']}/items?{wrong}")
        assert status == 400 and json.loads(body)["description"], (wrong, status)
    assert get(f"{root}/collections/{of['id']}/items/987654321")[0] == 404
    assert read(f"{root}/collections/{of['id']}/items?limit=99999999")[0]["numberReturned"] == len(features)
    # GDAL reads the same.
    if "OAPIF" in pyogrio.list_drivers(read=True):
        info = pyogrio.read_info(f"OAPIF:{root}", layer=of["id"])
        assert info["features"] in (len(features), -1), (of["id"], info)
assert get(f"{root}/collections/rivers/items")[0] == 404
assert get(f"{address}/studies/987654/ogc")[0] == 404
print("features agree")

# Whatever can be asked by the document is answered as the document says.
schema = schemathesis.from_dict(spec, base_url=root, validate_schema=True)
count = 0
for operation in schema.get_all_operations():
    case = operation.ok().as_strategy()

    @settings(max_examples=6, deadline=None, derandomize=True, phases=[Phase.generate], suppress_health_check=list(HealthCheck))
    @given(case=case)
    def run(case):
        global count
        count += 1
        case.call_and_validate(headers={"Accept": "application/json, application/geo+json"})

    run()
print("requests made up by schemathesis:", count)

# The catalogue, by the schemas of STAC 1.0.0 that ship with pystac.
def hold(what, kind):
    assert not list(getattr(LocalValidator(), kind)().iter_errors(what)), what["id"]


catalogue, _ = read(f"{address}/stac")
hold(catalogue, "catalog_validator")
items = []
for of in read(link(catalogue, "data"))[0]["collections"]:
    hold(of, "collection_validator")
    for item in read(link(of, "items"))[0]["features"]:
        hold(item, "item_validator")
        items.append(item)
large = sys.argv[3] if len(sys.argv) > 3 else study
item = [i for i in items if i["id"] == f"study-{large}"][0]
assert {i["id"] for i in read(f"{address}/stac/search?bbox={','.join(map(str, item['bbox']))}")[0]["features"]} >= {item["id"]}
assert read(f"{address}/stac/search?bbox=100,0,101,1")[0]["features"] == []
for wrong in ["bbox=1,2", "limit=0"]:
    assert get(f"{address}/stac/search?{wrong}")[0] == 400

# Windows of rasters, through a proxy that counts.
passed = 0


class Counting(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def pass_on(self):
        global passed
        wanted = urllib.request.Request(address + self.path, method=self.command)
        if "Range" in self.headers:
            wanted.add_header("Range", self.headers["Range"])
        try:
            answer = urllib.request.urlopen(wanted, timeout=60)
        except urllib.error.HTTPError as error:
            answer = error
        body = answer.read()
        passed += len(body)
        self.send_response(answer.status)
        for name in ["Content-Type", "Content-Range", "Accept-Ranges", "ETag", "Last-Modified"]:
            if name in answer.headers:
                self.send_header(name, answer.headers[name])
        self.send_header("Content-Length", answer.headers["Content-Length"] if self.command == "HEAD" else str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    do_GET = do_HEAD = pass_on

    def log_message(self, *_):
        pass


server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Counting)
threading.Thread(target=server.serve_forever, daemon=True).start()
for name, asset in item["assets"].items():
    path = urllib.parse.urlparse(asset["href"]).path
    all_of_it = get(asset["href"])[2]
    whole = len(all_of_it)
    passed = 0
    with rasterio.Env(GDAL_DISABLE_READDIR_ON_OPEN="EMPTY_DIR", GDAL_HTTP_TIMEOUT=60):
        with rasterio.open(f"/vsicurl/http://127.0.0.1:{server.server_port}{path}") as raster:
            assert [raster.height, raster.width] == item["properties"]["proj:shape"]
            assert raster.crs.to_epsg() == item["properties"]["proj:epsg"]
            assert list(raster.transform)[:6] == item["properties"]["proj:transform"], name
            window = raster.read(1, window=((0, 16), (0, 16)))
            part = passed
    with rasterio.MemoryFile(all_of_it) as file, file.open() as raster:
        assert (window.tobytes() == raster.read(1, window=((0, 16), (0, 16))).tobytes()), name
    print(f"{name}: {part} of {whole} bytes")
    assert part < whole / (40 if raster.width * raster.height > 20e6 else 4), name
print("agree")
