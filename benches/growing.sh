#!/usr/bin/env bash
# Times installs of made-up projects of 40 to 4,000 packages with 20 files each, and draws how they grow.
#   benches/growing.sh OUT.svg [RUNS]     (default 3; the median counts)
# Rows on standard output: packages, seconds cold, from the cache, with nothing to do. Nothing is removed before the end.
set -euo pipefail
out=$(realpath "$1") runs=${2:-3}
cd "$(dirname "$0")/.."
cargo build --release --quiet
cargo build --release --quiet -p yostel-flows --example large_project
cargo build --release --quiet -p yostel-testkit --example plot_growth
yostel=$PWD/target/release/yostel
world=$(mktemp -d)
trap 'chmod -R u+w "$world"; rm -rf "$world"' EXIT
once() { local from=$EPOCHREALTIME; "$@" >/dev/null; local to=$EPOCHREALTIME; echo $(( ${to/./} - ${from/./} )); }
median() { sort -n | sed -n "$(( (runs + 1) / 2 ))p" | awk '{ printf "%.4f", $1 / 1e6 }'; }
project() { mkdir "$world/$2"; sed "s|\"../station\"|\"$world/$1/station\"|" "$world/$1/console/yostel.toml" >"$world/$2/yostel.toml"; cp "$world/$1/console/yostel.lock" "$world/$2"; }
install() { YOSTEL_CACHE=$world/$1 "$yostel" -C "$world/$2" install; }
sizes="40 120 400 1200 4000"
for packages in $sizes; do target/release/examples/large_project "$world/w$packages" "$packages" $(( packages * 20 )) 1 >/dev/null; done
sync; sleep 30
for packages in $sizes; do
  for run in $(seq "$runs"); do
    id=$packages-$run
    project "w$packages" "cold$id"; project "w$packages" "warm$id"
    once install "cache$id" "cold$id" >>"$world/t-cold$packages"
    once install "cache$id" "warm$id" >>"$world/t-warm$packages"
    once install "cache$id" "warm$id" >>"$world/t-noop$packages"
  done
  printf '%s\t%s\t%s\t%s\n' "$packages" "$(median <"$world/t-cold$packages")" "$(median <"$world/t-warm$packages")" "$(median <"$world/t-noop$packages")"
done | tee "$world/rows.tsv"
target/release/examples/plot_growth "$world/rows.tsv" "Installing packages of 20 files" packages seconds "cache empty" "from the cache" "nothing to do" >"$out"
