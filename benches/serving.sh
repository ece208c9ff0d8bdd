#!/usr/bin/env bash
# Times installs with an empty cache from a folder, from nginx on this machine, and by curl, sha256sum and tar, in turn.
#   benches/serving.sh [RUNS] [PACKAGES] [FILES]     (default 5 400 30000; medians count)
# Where TMPDIR is in memory, no disk is timed. Needs nginx and curl.
set -euo pipefail
cd "$(dirname "$0")/.."
runs=${1:-5} packages=${2:-400} files=${3:-30000}
cargo build --release --quiet
yostel=$PWD/target/release/yostel
world=$(mktemp -d)
chmod 711 "$world"
trap 'kill "$server" 2>/dev/null || true; chmod -R u+w "$world"; rm -rf "$world"' EXIT
cargo run --release --quiet -p yostel-flows --example large_project -- "$world/w" "$packages" "$files" 1 >/dev/null
rm -rf "$world/w/cache" "$world/w/console/.yostel"
port=$(python3 -c 'import socket; s = socket.socket(); s.bind(("127.0.0.1", 0)); print(s.getsockname()[1])')
cat >"$world/nginx.conf" <<CONF
daemon off; pid nginx.pid; error_log stderr warn;
events {}
http {
  access_log off; sendfile on; tcp_nopush on;
  client_body_temp_path b; proxy_temp_path p; fastcgi_temp_path f; uwsgi_temp_path u; scgi_temp_path s;
  server { listen 127.0.0.1:$port; root $world/w/station; }
}
CONF
nginx -p "$world" -e stderr -c nginx.conf 2>"$world/nginx.log" &
server=$!
at=http://127.0.0.1:$port
until curl -sf "$at/registry.json" >/dev/null; do sleep 0.1; done

once() { local from=$EPOCHREALTIME; "$@" >/dev/null; local to=$EPOCHREALTIME; echo $(( (${to/./} - ${from/./}) / 1000 )); }
median() { sort -n | sed -n "$(( (runs + 1) / 2 ))p"; }
all() { sort -n | paste -sd' '; }
install() { YOSTEL_CACHE=$world/cache-$1 "$yostel" -C "$world/$1" install; }
by_hand() {
  mkdir "$world/$1"
  export at into=$world/$1
  # shellcheck disable=SC2016
  ls "$world/w/station/archives/sha256" | xargs -P 2 -I{} bash -c '
    set -euo pipefail
    mkdir "$into/{}.tree"
    curl -sf "$at/archives/sha256/{}" -o "$into/{}"
    sha256sum "$into/{}" >/dev/null
    tar -x --zstd -f "$into/{}" -C "$into/{}.tree"'
}
for kind in folder web; do
  mkdir "$world/$kind"
  from="folder = \"$world/w/station\""
  [ "$kind" = folder ] || from="url = \"$at\""
  sed "s|folder = .*|$from|" "$world/w/console/yostel.toml" >"$world/$kind/yostel.toml"
  YOSTEL_CACHE=$world/cache-$kind "$yostel" -C "$world/$kind" lock --quiet
done
for run in $(seq "$runs"); do
  for kind in folder web; do
    cp -r "$world/$kind" "$world/$kind$run"
    once install "$kind$run" >>"$world/times.$kind"
  done
  once by_hand "hand$run" >>"$world/times.hand"
  # What is in memory has to fit.
  chmod -R u+w "$world"/{folder,web,hand,cache-folder,cache-web}"$run"
  rm -rf "$world"/{folder,web,hand,cache-folder,cache-web}"$run"
done
for kind in folder web; do
  cp -r "$world/$kind" "$world/${kind}m"
  YOSTEL_CACHE=$world/cache-${kind}m /usr/bin/time -f "peak memory, $kind: %M KiB" "$yostel" -C "$world/${kind}m" install >/dev/null
done
echo "$packages packages, $files files, $(nproc) cores, $runs runs"
for kind in folder web hand; do echo "$kind: $(all <"$world/times.$kind") ms"; done
awk -v f="$(median <"$world/times.folder")" -v w="$(median <"$world/times.web")" -v h="$(median <"$world/times.hand")" \
  'BEGIN { printf "medians: nginx %.2f of the folder, %.2f of curl, sha256sum and tar\n", w/f, w/h }'
