#!/usr/bin/env bash
# Resolves made-up worlds beside general solvers on the same problems fully encoded, in turn.
#   benches/resolving.sh [FOLDER]     writes table.md and growth.tsv there (default: a temporary folder); wants cadical; the MiniSat kind is spared the largest
set -euo pipefail
cd "$(dirname "$0")/.."
out=${1:-$(mktemp -d)}
mkdir -p "$out"
cargo build --release --quiet -p yostel-testkit --example resolve_made_up
resolve=target/release/examples/resolve_made_up
seconds() { local from=$EPOCHREALTIME; "$@" >/dev/null || true; local to=$EPOCHREALTIME; echo "0.000001 $(( ${to/./} - ${from/./} ))" | awk '{ print $1 * $2 }'; }

echo '| problem | packages met, releases looked at of known | yostel: verdict / best set, s | MiniSat kind: verdict / best set, s | cadical: verdict, s | yostel / MiniSat kind: verdict, best set | yostel / cadical | memory |' >"$out/table.md"
echo '| --- | --- | --- | --- | --- | --- | --- | --- |' >>"$out/table.md"
: >"$out/growth.tsv"
while read -r kind numbers; do
  # shellcheck disable=SC2086
  said=$(export CNF=$out/p.cnf TABLE=1; case "$numbers" in *20000*) ;; *) export GENERAL=1 ;; esac; $resolve $kind $numbers | tail -1)
  IFS=$'\t' read -r packages known looked verdict best theirs_verdict theirs_best memory <<<"$said"
  cadical=$(for _ in 1 2 3; do seconds cadical -q -n "$out/p.cnf"; done | sort -g | sed -n 2p)
  awk -v t="$kind $numbers" -v p="$packages" -v k="$known" -v l="$looked" -v v="$verdict" -v b="$best" -v tv="$theirs_verdict" -v tb="$theirs_best" -v c="$cadical" -v m="$memory" \
    'BEGIN { theirs = ratios = "not run"; if (tv + 0 > 0) { theirs = sprintf("%.3f / %.3f", tv, tb); ratios = sprintf("%.2f, %.2f", v/tv, b/tb) }
      printf "| %s | %d, %d of %d | %.3f / %.3f | %s | %.3f | %s | %.2f | %d MiB |\n", t, p, l, k, v, b, theirs, c, ratios, b/c, m }' | tee -a "$out/table.md"
  case "$kind $numbers" in wide*" 20 4 1") printf '%s\t%s\t%s\t%s\n' "$packages" "$best" "$theirs_best" "$cadical" >>"$out/growth.tsv" ;; esac
done <<'PROBLEMS'
wide 20 220 20 4 1
wide 80 1000 20 4 1
wide 300 5000 20 4 1
wide 300 5000 60 4 2
wide 1200 20000 20 4 1
sat 100 426 2
sat 100 426 1
sat 150 639 2
sat 150 639 1
sat 200 852 1
sat 200 852 3
pigeons 7
pigeons 8
pigeons 9
colours 60 140 3
trap 10
trap 100
trap 1000
PROBLEMS
echo "$out/table.md, $out/growth.tsv"
