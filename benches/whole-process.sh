#!/usr/bin/env bash
# Times whole runs on a large made-up project, side by side with plain programs on the same files, in turn.
#   benches/whole-process.sh [RUNS]          (default 7; the median is what counts)
set -euo pipefail
cd "$(dirname "$0")/.."
runs=${1:-7}
cargo build --release --quiet
yostel=$PWD/target/release/yostel
world=$(mktemp -d)
trap 'chmod -R u+w "$world"; rm -rf "$world"' EXIT
cargo run --release --quiet -p yostel-flows --example large_project -- "$world/w" 300 20000 1
export YOSTEL_CACHE=$world/w/cache
project=$world/w/console
cd "$project"

# Milliseconds of one run of a command.
once() { local from=$EPOCHREALTIME; "$@" >/dev/null; local to=$EPOCHREALTIME; echo $(( (${to/./} - ${from/./}) / 10 )) ; }
median() { sort -n | sed -n "$(( (runs + 1) / 2 ))p"; }
# Runs A and B in turn and prints both medians (in 1/100 ms) and their ratio.
pair() {
  local title=$1 a=$2 b=$3 before=${4:-true}; : >"$world/a"; : >"$world/b"
  for _ in $(seq "$runs"); do $before; once $a >>"$world/a"; once $b >>"$world/b"; done
  awk -v t="$title" -v a="$(median <"$world/a")" -v b="$(median <"$world/b")" \
    'BEGIN { printf "%-44s %9.1f ms %9.1f ms   ratio %.2f\n", t, a/100, b/100, a/b }'
}
stat_walk() { find .yostel/packages -printf '%y %s %T@ %i\n'; }
read_all() { find .yostel/packages -type f -print0 | xargs -0 -P 2 -n 2000 sha256sum; }
copy_links() { rm -rf "$world/copy"; cp -al "$world/w/cache/trees" "$world/copy"; }
gone() { rm -rf .yostel "$world/copy"; }
nothing() { :; }

echo "$(find "$world/w/station/archives" -type f | wc -l) archives, $(nproc) cores, $runs runs, median of each"
printf '%-44s %12s %12s\n' "" yostel beside
"$yostel" install >/dev/null
pair "install, nothing to do | find with stat" "$yostel install" stat_walk
pair "verify | sha256sum of all, 2 at a time" "$yostel verify" read_all
pair "install from the cache | cp -al of the trees" "$yostel install" copy_links gone
pair "lock, nothing to do | cat of the lock" "$yostel lock" "cat yostel.lock"
