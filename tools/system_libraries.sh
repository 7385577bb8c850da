#!/usr/bin/env bash
# System libraries that Qt needs to open a window, also an offscreen one. Installed where this
# user may, named in one line where not. Nothing is done where they are there.
set -u

needed="libegl1 libgl1 libxkbcommon0 libxkbcommon-x11-0 libdbus-1-3 libfontconfig1 libxcb-cursor0 libxcb-icccm4 libxcb-image0 libxcb-keysyms1 libxcb-randr0 libxcb-render-util0 libxcb-shape0 libxcb-xinerama0 libxcb-xkb1"

if ! command -v dpkg-query >/dev/null 2>&1; then
    echo "Not a Debian-like system: see that the libraries behind these packages are there: $needed"
    exit 0
fi

missing=""
for package in $needed; do
    dpkg-query -W -f='${db:Status-Abbrev}' "$package" 2>/dev/null | grep -q '^ii' || missing="$missing $package"
done
[ -z "$missing" ] && exit 0

if [ "$(id -u)" = 0 ]; then
    run=""
elif sudo -n true 2>/dev/null; then
    run="sudo -n"
else
    echo "Please install what Qt needs: sudo apt-get install$missing"
    exit 0
fi
# shellcheck disable=SC2086
$run apt-get update -qq && DEBIAN_FRONTEND=noninteractive $run apt-get install -y -qq --no-install-recommends $missing >/dev/null \
    || echo "Please install what Qt needs: sudo apt-get install$missing"
exit 0
