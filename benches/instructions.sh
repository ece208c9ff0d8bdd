#!/usr/bin/env bash
# Counts the instructions that five fixed problems take, beside those of the table in benches/instructions.tsv. They
# depend on the toolchain, but not on what else the machine does, so a slip is seen that times would hide. Ends with status 1
# where one takes a tenth more.
#   benches/instructions.sh [--write]     --write makes the table anew; wants valgrind
set -euo pipefail
cd "$(dirname "$0")/.."
table=benches/instructions.tsv
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
# Symbols stay, so that callgrind_annotate can say where it went; nothing else differs from what is shipped.
export CARGO_PROFILE_RELEASE_STRIP=none
cargo build --release --quiet -p yostel-testkit --example resolve_made_up
status=0
while IFS= read -r problem; do
  # shellcheck disable=SC2086
  valgrind --tool=callgrind --callgrind-out-file="$work/out" target/release/examples/resolve_made_up $problem >"$work/said" 2>&1
  count=$(sed -n 's/^\(summary\|totals\): *\([0-9]*\).*/\2/p' "$work/out" | tail -n 1)
  printf '%s\t%s\n' "$problem" "$count" >>"$work/new"
  before=$(awk -F'\t' -v problem="$problem" '$1 == problem { print $2 }' "$table" 2>/dev/null || true)
  awk -v p="$problem" -v now="$count" -v before="${before:-0}" 'BEGIN {
    printf "%-32s %8.0f million instructions", p, now / 1e6
    if (before > 0) printf ", %.3f of the table", now / before
    print ""
    exit before > 0 && now > 1.1 * before
  }' || status=1
done <<'PROBLEMS'
wide 60 520 30 4 1
tight 60 500 30 4 20 80 1 1
tight 60 500 30 4 20 80 0 1
sat 60 280 1
trap 1000
PROBLEMS
if [ "${1:-}" = --write ]; then cp "$work/new" "$table"; else exit "$status"; fi
