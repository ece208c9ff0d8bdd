"""CVSS scores of an audit against those of the Python package cvss, on random vectors of each version.

scores.py write FOLDER   writes advisories with random vectors into the folder
scores.py judge JSON     compares what `audit advisories --format json` says of them
"""
import json, random, sys

METRICS = {
    "CVSS_V2": ("", "AV:LAN AC:HML Au:MSN C:NPC I:NPC A:NPC"),
    "CVSS_V3": ("CVSS:3.1/", "AV:NALP AC:LH PR:NLH UI:NR S:UC C:NLH I:NLH A:NLH"),
    "CVSS_V4": ("CVSS:4.0/", "AV:NALP AC:LH AT:NP PR:NLH UI:NPA VC:HLN VI:HLN VA:HLN SC:HLN SI:HLN SA:HLN"),
}
COUNT = 1000


def vectors():
    random.seed(20260501)
    for kind, (head, metrics) in METRICS.items():
        for number in range(COUNT):
            parts = [f"{name}:{random.choice(values)}" for name, values in (metric.split(":") for metric in metrics.split())]
            yield f"{kind.replace('_', '-')}-{number}", kind, head + "/".join(parts)


if sys.argv[1] == "write":
    for name, kind, vector in vectors():
        affected = {"package": {"ecosystem": "station", "name": "unit-scale"}, "versions": ["1.2.0"]}
        advisory = {"schema_version": "1.7.0", "id": name, "modified": "2026-05-01T00:00:00Z",
                    "severity": [{"type": kind, "score": vector}], "affected": [affected]}
        with open(f"{sys.argv[2]}/{name}.json", "w") as file:
            json.dump(advisory, file)
else:
    from cvss import CVSS2, CVSS3, CVSS4

    ours = {one["id"]: one["severity"] for one in json.load(open(sys.argv[2]))["advisories"]}
    wrong = []
    for name, kind, vector in vectors():
        theirs = {"CVSS_V2": CVSS2, "CVSS_V3": CVSS3, "CVSS_V4": CVSS4}[kind](vector).scores()[0]
        told = ours[name]["score"] if ours[name] else None
        if told is None or abs(told - float(theirs)) > 0.001:
            wrong.append((vector, told, float(theirs)))
    assert not wrong, (len(wrong), wrong[:5])
    print(f"CVSS scores of {3 * COUNT} random vectors of three versions are those of the Python package")
