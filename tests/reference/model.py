"""The model scheme of a package by frictionless and networkx: tables keep to their schemas and keys, water runs downhill to final outlets.

Arguments: the directory of the package, the short name of the study. Prints what is wrong, and at the end "agree"."""
import csv
import json
import os
import pathlib
import sys

import networkx as nx
from frictionless import Package, system

folder, short = pathlib.Path(sys.argv[1]), sys.argv[2]
wrong = []

os.chdir(folder)
system.trusted = True
report = Package("datapackage.json").validate()
if not report.valid:
    wrong += [f"frictionless: {e}" for e in report.flatten(["type", "fieldName", "note"])[:10]]
described = json.loads((folder / "datapackage.json").read_text(encoding="utf-8"))
names = {r["name"] for r in described["resources"]}
for name in ("subbasins", "subbasin_parameters", "flowpaths", "nexuses", "connectivity", "hypsometry"):
    if name not in names:
        wrong.append(f"{name} is not described")


def table(name):
    with open(folder / f"{short}_{name}.csv", newline="", encoding="utf-8") as file:
        return list(csv.DictReader(file))


subbasins, flowpaths, nexuses = table("subbasin_parameters"), table("flowpaths"), table("nexuses")
graph = nx.DiGraph()
graph.add_nodes_from(("nexus", n["nexus_id"]) for n in nexuses)
for f in flowpaths:
    graph.add_edge(("nexus", f["from_nexus_id"]), ("nexus", f["to_nexus_id"]))
for s in subbasins:
    graph.add_edge(("subbasin", s["subbasin_id"]), ("nexus", s["nexus_id"]))
if not nx.is_directed_acyclic_graph(graph):
    wrong.append("water runs in a circle")
ways = [n for n, degree in graph.out_degree() if degree > 1]
if ways:
    wrong.append(f"several ways downstream: {ways[:3]}")
ends = {n for n in graph if graph.out_degree(n) == 0}
terminals = {("nexus", n["nexus_id"]) for n in nexuses if not n["flowpath_id"]}
if ends != terminals:
    wrong.append(f"final outlets: {sorted(ends ^ terminals)[:5]}")
for n in nexuses:
    node = ("nexus", n["nexus_id"])
    above = nx.ancestors(graph, node)
    area = sum(float(s["area_km2"]) for s in subbasins if ("subbasin", s["subbasin_id"]) in above)
    if abs(area - float(n["contributing_area_km2"])) > 1e-4 * max(area, 1e-3):
        wrong.append(f"nexus {n['nexus_id']}: {area} km² above, {n['contributing_area_km2']} told")
seen = set()
for row in table("connectivity"):
    element = (row["element"], row["element_id"])
    if element in seen:
        wrong.append(f"{element} comes twice")
    seen.add(element)
    if row["to_element"] and (row["to_element"], row["to_id"]) in seen:
        wrong.append(f"{element} comes after what it drains to")
if len(seen) != len(subbasins) + len(flowpaths) + len(nexuses):
    wrong.append("connectivity leaves elements out")

print("\n".join(wrong) if wrong else "agree")
