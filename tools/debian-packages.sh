#!/bin/sh
# Install the Debian packages named as arguments, where this user may; else print the one command to type.
set -eu
command -v dpkg-query >/dev/null 2>&1 || exit 0   # not a Debian: the packages have other names there
missing=""
for package in "$@"; do
    dpkg-query -W -f='${Status}' "$package" 2>/dev/null | grep -q "ok installed" || missing="$missing $package"
done
[ -z "$missing" ] && exit 0
if [ "$(id -u)" = 0 ]; then
    as_root=""
elif command -v sudo >/dev/null 2>&1 && sudo -n true 2>/dev/null; then
    as_root="sudo"
else
    echo "Some Debian packages are missing. Please type:  sudo apt-get install$missing" >&2
    exit 1
fi
$as_root apt-get update -qq
# shellcheck disable=SC2086  # the list is meant to be split
$as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing >/dev/null
