"""Writes a made-up registry of many packages, each with a few releases, and a project that needs them all: many.py PACKAGES FOLDER"""
import json, os, random, sys

count, folder = int(sys.argv[1]), sys.argv[2]
random.seed(7)
for part in ("station/releases", "station/advisories", "console"):
    os.makedirs(f"{folder}/{part}", exist_ok=True)
with open(f"{folder}/station/registry.json", "w") as registry:
    json.dump({"format": 1, "name": "station"}, registry)
names = [f"part-{number:04}" for number in range(count)]
layer = [6 * number // count for number in range(count)]
digest = lambda number: f"sha256:{number:064x}"
for number, name in enumerate(names):
    lower = [other for other in range(count) if layer[other] == layer[number] + 1]
    needs = {names[other]: "^1" for other in random.sample(lower, min(len(lower), random.choice([0, 1, 1, 2, 3])))}
    releases = []
    for step, version in enumerate(["1.0.0", "1.1.0", "1.2.0", "2.0.0"]):
        artifact = {"platform": "any", "digest": digest(number * 1000 + step + 1), "size": 1000 + number, "tree": digest(number * 1000 + step + 500)}
        record = {"version": version, "published": f"202{step + 2}-03-01T00:00:00Z", "artifacts": [artifact], "licence": "MIT"}
        releases.append({"record": record | ({"needs": {"run": needs}} if needs else {})})
    with open(f"{folder}/station/releases/{name}.json", "w") as document:
        json.dump({"format": 1, "name": name, "releases": releases}, document)
with open(f"{folder}/console/yostel.toml", "w") as manifest:
    needs = "".join(f'{name} = "^1"\n' for name in names)
    manifest.write(f'[project]\nname = "console"\n[needs.run]\n{needs}[sources.station]\nfolder = "../station"\n')
