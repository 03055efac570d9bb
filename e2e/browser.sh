#!/bin/sh
# Makes sure that a Chromium is there for the browser tests: installs Debian's where that may be done, else says how.
set -eu
if [ -n "${CHROMIUM:-}" ] || command -v chromium-headless-shell >/dev/null || command -v chromium >/dev/null; then
  exit 0
fi
if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null; then
  echo "installing chromium for the browser tests"
  apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends chromium >/dev/null && exit 0
fi
echo "The browser tests need Chromium. Install it (Debian: apt-get install chromium) or set CHROMIUM to its path." >&2
exit 1
