#!/bin/sh
# Makes sure that what the tests drive is there: a Chromium, and ssh-keygen, with which git signs. Installs Debian's where
# that may be done, else says how.
set -eu
missing=
if [ -z "${CHROMIUM:-}" ] && ! command -v chromium-headless-shell >/dev/null && ! command -v chromium >/dev/null; then
  missing="chromium"
fi
command -v ssh-keygen >/dev/null || missing="$missing openssh-client"
[ -n "$missing" ] || exit 0
if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null; then
  echo "installing$missing for the tests" | sed 's/installing/installing /'
  # shellcheck disable=SC2086
  apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing >/dev/null && exit 0
fi
echo "The tests need: $missing. Install them (Debian: apt-get install $missing), or set CHROMIUM to the path of a Chromium." >&2
exit 1
