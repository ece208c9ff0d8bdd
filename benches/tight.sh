#!/usr/bin/env bash
# Locks made-up projects whose bounds bite, a whole process each, beside a general solver's verdict on the same problem fully
# encoded, in turn; seconds of processor time, and memory.
#   benches/tight.sh [SEEDS] [DIRECT PACKAGES RELEASES STALE BOUNDED]     (default 5, 300 5000 30 0 25); wants cadical
# With OPTIMUM=PYTHON, one that has python-sat, the optimum by repeated calls as well, compared with what was locked: minutes.
set -euo pipefail
cd "$(dirname "$0")/.."
seeds=${1:-5}; direct=${2:-300}; packages=${3:-5000}; releases=${4:-30}; stale=${5:-0}; bounded=${6:-25}
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cargo build --release --quiet --bin yostel
cargo build --release --quiet -p yostel-testkit --example world_on_disk --example resolve_made_up
export YOSTEL_CACHE=$work/cache
# Prints the processor time of a command in seconds, and its peak memory in MiB.
taken() {
  python3 - "$@" <<'PYTHON'
import resource, subprocess, sys
subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
used = resource.getrusage(resource.RUSAGE_CHILDREN)
print(f"{used.ru_utime + used.ru_stime:.3f} {used.ru_maxrss // 1024}")
PYTHON
}
for seed in $(seq "$seeds"); do
  world="tight $direct $packages $releases 4 $stale $bounded 1 $seed"
  rm -rf "$work/world"; mkdir -p "$work/world"
  target/release/yostel registry create "$work/world/station" >/dev/null
  target/release/examples/world_on_disk "$work/world" $world
  CNF=$work/p.cnf target/release/examples/resolve_made_up $world >"$work/said"
  ours=$(taken target/release/yostel -C "$work/world/console" lock --fresh)
  theirs=$(taken cadical -q -n "$work/p.cnf")
  [ -f "$work/world/console/yostel.lock" ]
  if [ -n "${OPTIMUM:-}" ]; then
    optimum=$("$OPTIMUM" benches/optimum.py "$work/p.cnf" "$work/world/console/yostel.lock")
    echo "seed $seed: verdict, optimum and calls by repeated calls: $optimum" >&2
  fi
  echo "$seed $ours $theirs $(grep -o 'conflicts: [0-9]*' "$work/said" | cut -d' ' -f2)"
done | tee "$work/all" | awk '{ printf "seed %d: lock %.2f s, %d MiB, %d conflicts; cadical %.2f s; ratio %.2f\n", $1, $2, $3, $6, $4, $2 / $4; fflush() }'
echo "median of ratios: $(awk '{ print $2 / $4 }' "$work/all" | sort -g | awk '{ r[NR] = $1 } END { print r[int((NR + 1) / 2)] }')"
