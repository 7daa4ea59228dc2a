"""Holds answers of a STAC API against the schemas of STAC 1.0.0 that ship with pystac: catalogue, collections, search."""
import json
import sys

import jsonschema
from pystac.validation.local_validator import LocalValidator

catalog, collections, search = (json.load(open(path)) for path in sys.argv[1:])


def hold(what, kind):
    errors = list(getattr(LocalValidator(), kind)().iter_errors(what))
    if errors:
        sys.exit(f"{what.get('id')}: {jsonschema.exceptions.best_match(errors).message}")


hold(catalog, "catalog_validator")
for one in collections["collections"]:
    hold(one, "collection_validator")
for one in search["features"]:
    hold(one, "item_validator")
print(f"catalog 1, collections {len(collections['collections'])}, items {len(search['features'])}, all valid")
