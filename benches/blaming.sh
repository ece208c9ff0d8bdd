#!/usr/bin/env bash
# Times what `culprit` does beside running the check, and merging two lockfiles beside `lock`.
#   benches/blaming.sh [RUNS] [PACKAGES] [FILES]     (default 5 300 25: files of each package; the median is what counts)
set -euo pipefail
cd "$(dirname "$0")/.."
runs=${1:-5} packages=${2:-300} files=${3:-25}
cargo build --release --quiet
cargo build --release --quiet -p yostel-testkit --example world_on_disk
root=$PWD
yostel=$PWD/target/release/yostel
world=$(mktemp -d)
trap 'chmod -R u+w "$world"; rm -rf "$world"' EXIT
export YOSTEL_CACHE=$world/cache

once() { local from=$EPOCHREALTIME; "$@" >/dev/null; local to=$EPOCHREALTIME; echo $(( (${to/./} - ${from/./}) / 10 )) ; }
median() { sort -n | sed -n "$(( (runs + 1) / 2 ))p"; }

# A project of so many packages with two releases each, every one of which needs one before it.
"$yostel" registry create "$world/station" >/dev/null
mkdir -p "$world/console" "$world/package/share"
{ printf '[project]\nname = "console"\n\n[sources.station]\nfolder = "../station"\n\n[needs.run]\n'
  for n in $(seq 0 $((packages - 1))); do echo "p$n = \"^1\""; done; } >"$world/console/yostel.toml"
for version in 1.0.0 1.1.0; do
  for n in $(seq 0 $((packages - 1))); do
    { printf '[project]\nname = "p%d"\nversion = "%s"\nlicence = "MIT"\n\n[needs.run]\n' "$n" "$version"
      if [ "$n" -gt 0 ]; then echo "p$((n / 2)) = \"^1\""; fi; } >"$world/package/yostel.toml"
    for f in $(seq "$files"); do echo "$n $version $f" >"$world/package/share/file-$f"; done
    "$yostel" -C "$world/package" publish --to "$world/station" --quiet
  done
done
cd "$world/console"
"$yostel" lock --take oldest --quiet
cp yostel.lock ../good.lock
"$yostel" update --quiet
"$yostel" install --quiet
printf '#!/bin/sh\ngrep -q 1.0.0 .yostel/reach/projects/console/run/p%d/share/file-1\n' $((packages / 2)) >../check
chmod +x ../check
"$yostel" --quiet culprit ../good.lock -- "$world/check" >/dev/null
for _ in $(seq "$runs"); do
  once "$yostel" --quiet --format json culprit ../good.lock -- "$world/check" >>../one
  once "$yostel" --quiet --format json culprit ../good.lock --jobs 2 -- "$world/check" >>../two
done
steps=$("$yostel" --quiet --format json culprit ../good.lock -- "$world/check" | grep -m 1 -o '"runs": *[0-9]*' | tr -dc 0-9)
awk -v p="$packages" -v f="$files" -v s="$steps" -v a="$(median <../one)" -v b="$(median <../two)" -v n="$(nproc)" 'BEGIN {
  printf "%d packages of %d files, all moved, warm cache, %d cores: %d runs of a check that takes no time in %.2f s, %.3f s each; two at once %.2f s\n",
    p, f, n, s, a / 1e5, a / 1e5 / s, b / 1e5 }'

# Two branches of a project of some 500 packages, each of which updated one half of what it needs directly.
"$yostel" registry create "$world/large/station" >/dev/null
"$root/target/release/examples/world_on_disk" "$world/large" wide 60 520 30
cd "$world/large/console"
"$yostel" lock --take oldest --quiet; cp yostel.lock ../base
direct=($(sed -n '/needs.run/,$s/^"\(.*\)" =.*/\1/p' yostel.toml))
half=$((${#direct[@]} / 2))
"$yostel" update "${direct[@]:0:half}" --alone --quiet; cp yostel.lock ../ours
cp ../base yostel.lock; "$yostel" update "${direct[@]:half}" --alone --quiet; cp yostel.lock ../theirs
merge() { cp ../ours ../merged; "$yostel" lock --for-git ../base ../merged ../theirs yostel.lock; }
cp ../ours yostel.lock
for _ in $(seq "$runs"); do
  once merge >>../merging
  once "$yostel" lock --preview >>../locking
  once "$yostel" lock --fresh --preview >>../fresh
done
awk -v l="$(grep -c '^\[\[chosen' ../base)" -v a="$(median <../merging)" -v b="$(median <../locking)" -v c="$(median <../fresh)" \
  'BEGIN { printf "two lockfiles of %d packages merged: %.0f ms; lock %.0f ms, ratio %.2f; lock --fresh %.0f ms, ratio %.2f\n", l, a/100, b/100, a/b, c/100, a/c }'
