#!/usr/bin/env bash
# Times locking a made-up project from a folder and from a web server on this machine that answers late, in turn.
#   benches/registries.sh [RUNS] [MILLISECONDS] [KIND NUMBERS]     (default 5 20 layers 12 25 30 5000; medians count)
# That project locks 300 of the 5,000 packages that its needs reach; `wide 300 5000 5` locks nearly all of as many.
set -euo pipefail
cd "$(dirname "$0")/.."
runs=${1:-5} late=${2:-20}
shift $(( $# < 2 ? $# : 2 ))
[ $# -gt 0 ] || set -- layers 12 25 30 5000
cargo build --release --quiet -p yostel -p yostel-testkit --bins --examples
yostel=$PWD/target/release/yostel
world=$(mktemp -d)
export YOSTEL_CACHE="$world/cache"
"$yostel" registry create "$world/station" --quiet
target/release/examples/world_on_disk "$world" "$@"
target/release/examples/serve_late "$world/station" "$late" >"$world/at" &
trap 'kill %1; rm -rf "$world"' EXIT
while [ ! -s "$world/at" ]; do sleep 0.1; done
cp -r "$world/console" "$world/web"
sed -i "s|folder = .*|url = \"$(cat "$world/at")\"|" "$world/web/yostel.toml"

once() { local from=$EPOCHREALTIME; "$@" >/dev/null; local to=$EPOCHREALTIME; echo $(( (${to/./} - ${from/./}) / 1000 )); }
median() { sort -n | sed -n "$(( (runs + 1) / 2 ))p"; }
for _ in $(seq "$runs"); do
  for kind in console web; do
    rm -rf "$world/cache" "$world/$kind/yostel.lock"
    once "$yostel" -C "$world/$kind" lock --quiet >>"$world/$kind.cold"
  done
  once "$yostel" -C "$world/web" lock --fresh --quiet >>"$world/web.warm"
done
cmp "$world/console/yostel.lock" "$world/web/yostel.lock"
packages=$(YOSTEL_LOG=debug "$yostel" -C "$world/web" lock --fresh --preview 2>&1 >/dev/null | sed -n 's/.*asking the sources packages=//p')
folder=$(median <"$world/console.cold") cold=$(median <"$world/web.cold") warm=$(median <"$world/web.warm")
rounds=$(wc -l <<<"$packages")
echo "$*: a server that answers after $late ms; $rounds rounds, $(paste -sd+ <<<"$packages" | bc) packages; $runs runs, medians"
echo "from a folder $folder ms; from the server, nothing known $cold ms, everything known $warm ms; the same lockfile"
awk -v f="$folder" -v c="$cold" -v w="$warm" -v l="$late" -v r="$rounds" \
  'BEGIN { printf "%.2f and %.2f of %d answers and the time from a folder\n", c / (r * l + f), w / (r * l + f), r }'
