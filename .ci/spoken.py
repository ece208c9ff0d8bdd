"""Advisories and statements on them, against what others wrote.

spoken.py examples FOLDER       copies the advisories that the Python package osv has as examples into the folder
spoken.py schema FILE…          judges advisories by the OSV schema of that package
spoken.py statements FILE ID    has the Python package lib4vex read an OpenVEX document that dismisses the advisory
"""
import importlib.util, json, pathlib, shutil, sys

if sys.argv[1] == "statements":
    from lib4vex.parser import VEXParser

    parser = VEXParser(vex_type="openvex")
    parser.parse(sys.argv[2])
    [said] = parser.get_vulnerabilities()
    assert said["id"] == sys.argv[3] and said["status"] == "not_affected", said
    print("another program reads", sys.argv[3], "as not affecting us")
    sys.exit()

place = pathlib.Path(importlib.util.find_spec("osv").origin).parent / "osv-schema"
if sys.argv[1] == "examples":
    files = sorted(place.rglob("*.osv.json"))
    assert len(files) > 4, files
    for file in files:
        shutil.copy(file, pathlib.Path(sys.argv[2]) / file.name)
    print(len(files), "advisories of others")
else:
    import jsonschema

    judge = jsonschema.Draft202012Validator(json.load(open(place / "validation" / "schema.json")))
    for file in sys.argv[2:]:
        # Who hands out names must be registered with the schema's authors, and a made-up registry is not.
        foreign = lambda error: list(error.path)[-1:] in (["id"], ["ecosystem"])
        wrong = [error.message for error in judge.iter_errors(json.load(open(file))) if not foreign(error)]
        assert not wrong, (file, wrong)
    print(len(sys.argv[2:]), "advisories are as the OSV schema says")
