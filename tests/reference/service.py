"""Holds the service for scripts (OGC API - Processes) against general-purpose libraries, and runs a recipe through it.

python service.py ADDRESS TOKEN DEM OUT

The OpenAPI document is checked by openapi-spec-validator, all that it offers by schemathesis; what a job wrote is left in OUT.
Requirements are those of OGC 18-062r2 (OGC API - Processes - Part 1: Core); its numbers are from memory.
"""

import base64
import json
import pathlib
import sys
import time
import urllib.error
import urllib.parse
import urllib.request

import openapi_spec_validator
import schemathesis
from hypothesis import HealthCheck, Phase, given, settings

address, token = sys.argv[1].rstrip("/"), sys.argv[2]
dem, out = pathlib.Path(sys.argv[3]), pathlib.Path(sys.argv[4])
root = f"{address}/service"
BEARER = {"Authorization": f"Bearer {token}"}
PART = "http://www.opengis.net/spec/ogcapi-processes-1/1.0/conf/"


def ask(url, method="GET", body=None, headers=BEARER):
    url = urllib.parse.urljoin(root, url)
    headers = {**headers, **({"Content-Type": "application/json"} if body is not None else {})}
    data = None if body is None else body if isinstance(body, bytes) else json.dumps(body).encode()
    request = urllib.request.Request(url, method=method, data=data, headers=headers)
    try:
        with urllib.request.urlopen(request, timeout=120) as answer:
            return answer.status, dict(answer.headers), answer.read()
    except urllib.error.HTTPError as error:
        return error.code, dict(error.headers), error.read()


def read(url, **more):
    status, headers, body = ask(url, **more)
    assert status in (200, 201), (url, status, body[:300])
    return json.loads(body), headers


def link(document, rel):
    return next(l["href"] for l in document["links"] if l["rel"] == rel)


# Nobody is let in without the token, or with another.
for headers in ({}, {"Authorization": "Bearer " + "0" * 64}, {"Authorization": f"Basic {token}"}):
    status, answered, body = ask("/service", headers=headers)
    assert status == 401 and answered["www-authenticate"] == "Bearer", (status, answered)
    assert token.encode() not in body
    assert ask("/service/processes/recipe/execution", "POST", {}, headers)[0] == 401

# Clause 7.2 to 7.9: the landing page leads to all else.
landing, _ = read("/service")
REL = "http://www.opengis.net/def/rel/ogc/1.0/"
spec, headers = read(link(landing, "service-desc"))
assert headers["content-type"].startswith("application/vnd.oai.openapi+json;version=3.0"), headers
openapi_spec_validator.validate(spec)
classes, _ = read(link(landing, REL + "conformance"))
assert {PART + part for part in ("core", "job-list", "dismiss", "oas30", "json")} <= set(classes["conformsTo"])
processes, _ = read(link(landing, REL + "processes"))
assert [p["id"] for p in processes["processes"]] == ["recipe"]
assert "dismiss" in processes["processes"][0]["jobControlOptions"]
process, _ = read(link(processes["processes"][0], "self"))
assert set(process["inputs"]) == {"recipe", "files", "study", "set", "name"} and "summary" in process["outputs"]
jobs = link(landing, REL + "job-list")
assert read(jobs)[0]["jobs"] == []

# Clause 7.11: executed as a job, whose address comes along.
recipe = 'version = 1\n[terrain]\ndem = ["dem.tif"]\n[conditioning]\nsinks = "fill"\n[network]\nthreshold = { cells = 400 }\n'
content = base64.b64encode(dem.read_bytes()).decode()
execute = link(process, REL + "execute")
files = [{"name": "dem.tif", "content": content}]
begun, headers = read(execute, method="POST", body={"inputs": {"recipe": recipe, "files": files, "name": "by a script"}})
assert begun["status"] in ("accepted", "running") and headers["location"].endswith("/jobs/" + begun["jobID"])
# Files as objects that are qualified, and keys that take other values.
other, _ = read(execute, method="POST", body={"inputs": {
    "recipe": recipe, "files": [{"value": files[0]}], "set": {"network.threshold": {"cells": 900}}}})


def ended(job):
    for _ in range(600):
        now, _ = read(f"/service/jobs/{job}")
        if now["status"] not in ("accepted", "running"):
            return now
        time.sleep(0.1)
    raise AssertionError(now)


for job in (begun["jobID"], other["jobID"]):
    now = ended(job)
    assert now["status"] == "successful" and now["progress"] == 100, now
results, _ = read(link(ended(begun["jobID"]), REL + "results"))
assert results["summary"]["network"]["threshold_cells"] == 400
assert read(f"/service/jobs/{other['jobID']}/results")[0]["summary"]["network"]["threshold_cells"] == 900
for file in results["files"]:
    status, headers, body = ask(file["href"])
    assert status == 200 and len(body) == file["length"] and headers["content-type"] == file["type"], file
    (out / file["title"]).write_bytes(body)
# The list, in pages, by state.
listed, _ = read(jobs + "?limit=1")
assert len(listed["jobs"]) == 1 and listed["jobs"][0]["jobID"] == other["jobID"]
following, _ = read(link(listed, "next"))
assert following["jobs"][0]["jobID"] == begun["jobID"] and not any(l["rel"] == "next" for l in following["links"])
assert read(jobs + "?status=failed")[0]["jobs"] == [] and len(read(jobs + "?status=successful,failed")[0]["jobs"]) == 2
for wrong in ("limit=0", "limit=x", "offset=-1", "status=odd"):
    assert ask(jobs + "?" + wrong)[0] == 400, wrong

# What is asked wrongly, and why: nothing is begun.
for inputs, told in [
    ({}, "give a recipe"),
    ({"recipe": recipe, "study": 1}, "not both"),
    ({"recipe": recipe}, "dem.tif is not among the files"),
    ({"recipe": recipe.replace("dem.tif", "../dem.tif"), "files": files}, "leaves the folder"),
    ({"recipe": "version = 2\n[terrain]\ndem = []", "files": files}, "2 is not known"),
    ({"recipe": recipe, "files": [{"name": "../dem.tif", "content": content}]}, "without folders"),
    ({"recipe": recipe, "files": [{"name": "dem.tif", "content": "?"}]}, "not base 64"),
    ({"recipe": recipe, "files": files * 2}, "comes twice"),
    ({"recipe": recipe, "files": files, "set": {"network.treshold": 5}}, "treshold"),
    ({"recipe": 5}, "must be text"),
    ({"recipe": recipe, "file": []}, "there is no input"),
    ({"study": 987654}, "no such study"),
]:
    status, headers, body = ask(execute, "POST", {"inputs": inputs})
    fault = json.loads(body)
    assert headers["content-type"] == "application/problem+json" and fault["status"] == status, fault
    assert status in (400, 404) and told in fault["detail"], (inputs.keys(), told, fault)
assert ask(execute, "POST", b"{")[0] == 400
assert ask("/service/processes/plough/execution", "POST", {"inputs": {}})[0] == 404
status, _, body = ask("/service/jobs/12345678/results")
assert status == 404 and json.loads(body)["type"].endswith("/no-such-job")
# A job whose data cannot be used says why.
broken = [{"name": "dem.tif", "content": base64.b64encode(b"no raster").decode()}]
failing, _ = read(execute, method="POST", body={"inputs": {"recipe": recipe, "files": broken}})
now = ended(failing["jobID"])
assert now["status"] == "failed" and "terrain.dem" in now["message"], now
assert ask(f"/service/jobs/{failing['jobID']}/results")[0] == 500

# Clause 13: dismissed, a job that has ended is gone.
gone, _ = read(f"/service/jobs/{failing['jobID']}", method="DELETE")
assert gone["status"] == "dismissed" and ask(f"/service/jobs/{failing['jobID']}")[0] == 404

# All that the document offers.
schema = schemathesis.from_dict(spec, base_url=root, validate_schema=True)
count = 0
for operation in schema.get_all_operations():
    case = operation.ok().as_strategy()

    @settings(max_examples=12, deadline=None, derandomize=True, phases=[Phase.generate], suppress_health_check=list(HealthCheck))
    @given(case=case)
    def run(case):
        global count
        count += 1
        case.call_and_validate(headers=BEARER)

    run()
print("requests made up by schemathesis:", count)
print("agree")
