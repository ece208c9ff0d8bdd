#!/usr/bin/env bash
# Times a workspace of 200 projects that share 500 packages: is its lockfile fresh? Beside reading the same files.
#   benches/workspace.sh [RUNS]          (default 15; the median is what counts)
set -euo pipefail
cd "$(dirname "$0")/.."
runs=${1:-15}
cargo build --release --quiet
yostel=$PWD/target/release/yostel
world=$(mktemp -d)
trap 'chmod -R u+w "$world"; rm -rf "$world"' EXIT
cargo run --release --quiet -p yostel-flows --example large_project -- "$world/w" 500 1000 1 >/dev/null
export YOSTEL_CACHE=$world/w/cache
top=$world/w/all
mkdir -p "$top"
printf '[project]\nname = "all"\n\n[workspace]\nprojects = ["libs/*"]\n\n[agreed]\np0 = "^1"\n\n[sources.station]\nfolder = "../station"\n' >"$top/yostel.toml"
for project in $(seq 0 199); do
  folder=$top/libs/lib$project
  mkdir -p "$folder"
  {
    printf '[project]\nname = "lib%d"\nversion = "1.%d.0"\n\n[needs.run]\np0 = "agreed"\n' "$project" "$project"
    if ((project > 0)); then printf 'lib%d = "^1"\n' $((project / 2)); fi
    for need in $(seq 1 20); do printf 'p%d = ">=1.0, <2"\n' $(((project * 7 + need * 23) % 499 + 1)); done | sort -u
    printf '\n[needs.test]\np%d = "^1"\n' $((project * 2 + 1))
  } >"$folder/yostel.toml"
done
cd "$top"
"$yostel" lock >/dev/null

once() { local from=$EPOCHREALTIME; "$@" >/dev/null; local to=$EPOCHREALTIME; echo $(( (${to/./} - ${from/./}) / 10 )) ; }
median() { sort -n | sed -n "$(( (runs + 1) / 2 ))p"; }
read_all() { cat yostel.toml yostel.lock libs/*/yostel.toml; }
for _ in $(seq "$runs"); do once "$yostel" lock >>"$world/a"; once read_all >>"$world/b"; done
echo "$(ls libs | wc -l) projects, $(grep -c '^\[\[chosen\]\]' yostel.lock) packages locked, $(nproc) cores, $runs runs, median of each"
awk -v a="$(median <"$world/a")" -v b="$(median <"$world/b")" \
  'BEGIN { printf "lock, nothing to do | cat of all manifests and the lock  %9.1f ms %9.1f ms   ratio %.2f\n", a/100, b/100, a/b }'
