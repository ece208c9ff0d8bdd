#!/usr/bin/env python3
"""Looks for the best set of a made-up world by repeated calls of CaDiCaL 1.9.5, which keeps what it learned between them, in
the order of docs/resolution.md section 2, and compares it with a lockfile. Wants the Python package python-sat.

    benches/optimum.py FILE.cnf LOCKFILE

FILE.cnf and FILE.cnf.questions are written by the example resolve_made_up. Prints the seconds inside the solver until the
verdict and until the best set, and how many calls that took; ends with status 1 where a version differs.
"""

import sys
import tomllib

from pysat.formula import CNF
from pysat.solvers import Solver


def main():
    path, lockfile = sys.argv[1:]
    releases, needs = {}, {}
    with open(path + ".questions", encoding="utf-8") as lines:
        layer = next(lines).split()
        for line in lines:
            name, version, variable, needed = line.rstrip("\n").split("\t")
            releases.setdefault(name, []).append((version, int(variable)))
            needs[name, version] = needed.split()
    solver = Solver(name="cadical195", bootstrap_with=CNF(from_file=path), use_timer=True)
    assert solver.solve(), "there is no set"
    verdict, calls = solver.time_accum(), 1
    model = set(solver.get_model())
    best, met = {}, set(layer)
    while layer:
        following = set()
        for name in sorted(layer):
            for version, literal in releases[name]:
                if literal not in model:
                    calls += 1
                    if not solver.solve(assumptions=[literal]):
                        solver.add_clause([-literal])
                        continue
                    model = set(solver.get_model())
                solver.add_clause([literal])
                best[name] = version
                following.update(needs[name, version])
                break
        layer = following - met
        met |= following
    with open(lockfile, "rb") as file:
        locked = {one["name"]: one["version"] for one in tomllib.load(file)["chosen"]}
    print(f"{verdict:.3f} {solver.time_accum():.3f} {calls}")
    if locked != best:
        differ = sorted(name for name in locked.keys() | best.keys() if locked.get(name) != best.get(name))
        sys.exit(f"another version of {', '.join(differ[:10])}, {len(differ)} in all")


main()
