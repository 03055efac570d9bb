#!/bin/sh
# Runs every test QUIET times by itself and BUSY times beside a load on every core, and says how each run ended. It fails when
# one of them does. The load is made of the shell alone and is ended with the script.
set -eu
quiet=${1:-10} busy=${2:-10}
log=$(mktemp -d)
GOTMPDIR=${GOTMPDIR:-${TMPDIR:-/tmp}} TMPDIR=$("$(dirname "$0")/scratch.sh")
export GOTMPDIR TMPDIR
load=
stop() { for p in $load; do kill "$p" 2>/dev/null || true; done; load=; }
trap stop EXIT
trap 'exit 1' INT TERM
failed=0
run() { # NAME
  begin=$(date +%s)
  if go test -count=1 -parallel 4 -timeout 40m ./... >"$log/$1" 2>&1; then
    echo "$1: green, $(($(date +%s) - begin)) s"
  else
    failed=$((failed + 1))
    echo "$1: FAILED, $(($(date +%s) - begin)) s, $log/$1"
    grep -E '^(--- FAIL|FAIL|panic)' "$log/$1" || true
  fi
}
for i in $(seq "$quiet"); do run "quiet-$i"; done
if [ "$busy" -gt 0 ]; then
  for _ in $(seq "$(nproc)"); do
    sh -c 'while :; do :; done' &
    load="$load $!"
  done
  for i in $(seq "$busy"); do run "busy-$i"; done
  stop
fi
echo "$((quiet + busy - failed)) of $((quiet + busy)) runs were green"
[ "$failed" -eq 0 ]
