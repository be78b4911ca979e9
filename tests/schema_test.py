#!/usr/bin/env python3
"""Holds schema/jackal.schema.json against the plans of the project, with a real validator.

Every demo plan must be valid. Every file in tests/refusals says in its last line whether the
schema can see what is wrong with it ("refuses"), or only the reader can ("accepts").
"""
import json
import pathlib
import sys

import jsonschema
import yaml

top = pathlib.Path(sys.argv[1])
schema = json.loads((top / "schema/jackal.schema.json").read_text())
jsonschema.Draft202012Validator.check_schema(schema)
validator = jsonschema.Draft202012Validator(schema)


class PlanLoader(yaml.SafeLoader):
    """YAML 1.2's core schema as editors read it: no on/off/yes/no, no base-60 numbers."""


PlanLoader.yaml_implicit_resolvers = {
    letter: [(tag, regexp) for tag, regexp in resolvers if tag.split(":")[-1] in ("null", "merge")]
    for letter, resolvers in yaml.SafeLoader.yaml_implicit_resolvers.items()
}
import re  # noqa: E402

PlanLoader.add_implicit_resolver("tag:yaml.org,2002:bool", re.compile("^(true|false)$"), list("tf"))
PlanLoader.add_implicit_resolver("tag:yaml.org,2002:int", re.compile("^[-+]?[0-9]+$"), list("-+0123456789"))

failed = 0


def check(path, wanted):
    global failed
    errors = [e.message for e in validator.iter_errors(yaml.load(path.read_text(), PlanLoader))]
    if bool(errors) == wanted:
        return
    failed += 1
    print(f"{path}: {'the schema accepts it' if wanted else errors[0]}")


plans = sorted(top.glob("demo/**/*.yaml")) + [pathlib.Path(p) for p in sys.argv[2:]]
refusals = sorted(top.glob("tests/refusals/*.yaml"))
for path in plans:
    check(path, False)
for path in refusals:
    last = path.read_text().splitlines()[-1]
    assert last in ("# schema: refuses", "# schema: accepts"), path
    check(path, last == "# schema: refuses")
print(f"{len(plans)} plans and {len(refusals)} refusals, {failed} wrong")
sys.exit(1 if failed or not plans or not refusals else 0)
