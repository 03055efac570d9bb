#!/bin/sh
# Makes sure that what the tests drive is there: a Chromium, and ssh-keygen, with which git signs. Installs Debian's where
# that may be done, else says how. As root also bubblewrap, in which a runner's jobs are tried; without it that part is skipped.
set -eu
missing=
if [ -z "${CHROMIUM:-}" ] && ! command -v chromium-headless-shell >/dev/null && ! command -v chromium >/dev/null; then
  missing="chromium"
fi
command -v ssh-keygen >/dev/null || missing="$missing openssh-client"
if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null; then
  install() {
    echo "installing $* for the tests"
    apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "$@" >/dev/null
  }
  # shellcheck disable=SC2086
  [ -z "$missing" ] || { install $missing && missing=; } || true
  command -v bwrap >/dev/null || install bubblewrap || echo "bubblewrap is not to be had: the sandbox is not tried"
fi
[ -n "$missing" ] || exit 0
echo "The tests need: $missing. Install them (Debian: apt-get install $missing), or set CHROMIUM to the path of a Chromium." >&2
exit 1
