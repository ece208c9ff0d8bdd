#!/usr/bin/env bash
# Times installs of a large made-up project, side by side with plain programs on the same files, in turn.
#   benches/installing.sh [RUNS] [PACKAGES] [FILES] [SIZES]     (default 5 400 30000 even; the median is what counts)
# SIZES is even or uneven: half of the files below 3 KB, few of hundreds.
#
# Every run works in folders of its own and nothing is removed before the end: some file systems give out inodes slowly
# for minutes after many files were removed, which would time the removal and not the install.
set -euo pipefail
cd "$(dirname "$0")/.."
runs=${1:-5} packages=${2:-400} files=${3:-30000} sizes=${4:-even}
cargo build --release --quiet
yostel=$PWD/target/release/yostel
world=$(mktemp -d)
trap 'chmod -R u+w "$world"; rm -rf "$world"' EXIT
cargo run --release --quiet -p yostel-flows --example large_project -- "$world/w" "$packages" "$files" 1 "$sizes" >/dev/null
rm -rf "$world/w/cache" "$world/w/console/.yostel"
archives=$world/w/station/archives/sha256
warm=$world/warm
sync; sleep 60

once() { local from=$EPOCHREALTIME; "$@" >/dev/null; local to=$EPOCHREALTIME; echo $(( (${to/./} - ${from/./}) / 10 )); }
median() { sort -n | sed -n "$(( (runs + 1) / 2 ))p"; }
report() { awk -v t="$1" -v a="$(median <"$world/$2")" -v b="$(median <"$world/$3")" \
  'BEGIN { printf "| %s | %.0f ms | %.0f ms | %.2f |\n", t, a/100, b/100, a/b }'; }
project() { mkdir "$world/$1"; sed "s|\"../station\"|\"$world/w/station\"|" "$world/w/console/yostel.toml" >"$world/$1/yostel.toml"; cp "$world/w/console/yostel.lock" "$world/$1"; }
install() { local cache=$1 project=$2; shift 2; YOSTEL_CACHE=$cache "$yostel" -C "$project" install "$@"; }
verify() { YOSTEL_CACHE=$1 "$yostel" -C "$2" verify; }
digest() { find "$1" -type f -print0 | xargs -0 -P 2 -n 500 sha256sum; }
many() { for _ in $(seq 100); do "$@"; done; }
digest_and_unpack() { mkdir "$1"; (cd "$archives"; ls | xargs -P 2 -n 20 sha256sum >/dev/null; ls | xargs -P 2 -I{} sh -c "mkdir $1/{} && tar -x --zstd -f {} -C $1/{}"); }

project first; install "$warm" "$world/first" >/dev/null
for run in $(seq "$runs"); do
  for kind in cold linked trees; do project "$kind$run"; done
  once install "$world/cache$run" "$world/cold$run" >>"$world/cold"
  once digest_and_unpack "$world/un$run" >>"$world/un"
  once install "$warm" "$world/linked$run" >>"$world/linked"
  once cp -al "$warm/trees" "$world/copy$run" >>"$world/copied"
  once install "$warm" "$world/trees$run" --whole-trees >>"$world/trees"
  once install "$warm" "$world/linked$run" >>"$world/noop"
  once find "$world/linked$run/.yostel/packages" -printf '%y %s %T@ %i\n' >>"$world/found"
  once install "$warm" "$world/linked$run" --quick >>"$world/quick"
  once verify "$warm" "$world/linked$run" >>"$world/verified"
  once digest "$world/linked$run/.yostel/packages" >>"$world/digested"
  once many "$yostel" --version >>"$world/version"
  once many /bin/true >>"$world/true"
done
echo "$packages packages, $files files of $sizes sizes, $(nproc) cores, $runs runs, median of each"
report "cold, from a folder registry; sha256sum and tar, two at a time" cold un
report "from the cache; cp -al of the same trees" linked copied
report "from the cache, --whole-trees; the same" trees copied
report "nothing to do; find that stats every file" noop found
report "nothing to do, --quick; the same" quick found
report "verify; sha256sum of every file, two at a time" verified digested
report "--version, a hundred times; the smallest program" version true
for what in cold linked; do
  rm -rf "$world/memory$what"; project "memory$what"
  if [ "$what" = cold ]; then cache=$world/cachememory; else cache=$warm; fi
  YOSTEL_CACHE=$cache /usr/bin/time -f "peak memory, $what: %M KiB" "$yostel" -C "$world/memory$what" install >/dev/null
done
