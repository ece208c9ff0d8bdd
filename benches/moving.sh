#!/usr/bin/env bash
# Times updates of a large made-up project beside a lock of the same, in turn.
#   benches/moving.sh [RUNS]          (default 7; the median is what counts)
set -euo pipefail
cd "$(dirname "$0")/.."
runs=${1:-7}
cargo build --release --quiet
cargo build --release --quiet -p yostel-testkit --example world_on_disk
yostel=$PWD/target/release/yostel
world=$(mktemp -d)
trap 'rm -rf "$world"' EXIT
"$yostel" registry create "$world/station" >/dev/null
target/release/examples/world_on_disk "$world" wide 60 520 30
export YOSTEL_CACHE=$world/cache
cd "$world/console"
"$yostel" lock --take oldest --quiet

# Milliseconds of one run of a command, in hundredths.
once() { local from=$EPOCHREALTIME; "$@" >/dev/null; local to=$EPOCHREALTIME; echo $(( (${to/./} - ${from/./}) / 10 )) ; }
median() { sort -n | sed -n "$(( (runs + 1) / 2 ))p"; }
pair() {
  local title=$1 a=$2 b=$3; : >"$world/a"; : >"$world/b"
  for _ in $(seq "$runs"); do once $a >>"$world/a"; once $b >>"$world/b"; done
  awk -v t="$title" -v a="$(median <"$world/a")" -v b="$(median <"$world/b")" \
    'BEGIN { printf "%-50s %9.1f ms %9.1f ms   ratio %.2f\n", t, a/100, b/100, a/b }'
}
echo "$(grep -c '^\[\[chosen' yostel.lock) packages locked, all behind, $(nproc) cores, $runs runs, median of each"
pair "update --preview | lock --fresh --preview" "$yostel update --preview" "$yostel lock --fresh --preview"
pair "update p5 --preview | lock --fresh --preview" "$yostel update p5 --preview" "$yostel lock --fresh --preview"
pair "update p5 --alone --preview | the same" "$yostel update p5 --alone --preview" "$yostel lock --fresh --preview"
