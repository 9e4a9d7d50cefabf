#!/bin/sh
# Make sure that the shared libraries which Qt loads are present; install them where we may, else say how.
set -u
PACKAGES="libegl1 libgl1 libopengl0 libxkbcommon0 libxkbcommon-x11-0 libdbus-1-3 libfontconfig1 libfreetype6 libglib2.0-0 libxcb-cursor0 libxcb-icccm4 libxcb-image0 libxcb-keysyms1 libxcb-randr0 libxcb-render-util0 libxcb-shape0 libxcb-xinerama0 libxcb-xkb1 python3-venv xvfb"
command -v dpkg-query >/dev/null 2>&1 || exit 0
missing=""
for package in $PACKAGES; do
  # A later Debian renames some of these (t64); a package that provides the name counts.
  dpkg-query -W -f='${Status}\n' "$package" "${package}t64" 2>/dev/null | grep -q 'install ok installed' || missing="$missing $package"
done
# Any Python with venv serves; only the system's own needs the package.
if "${PYTHON:-python3}" -c 'import venv, ensurepip' 2>/dev/null; then
  missing=$(echo "$missing" | sed 's/ python3-venv//')
fi
[ -z "$missing" ] && exit 0
if [ "$(id -u)" = 0 ]; then
  SUDO=""
elif command -v sudo >/dev/null 2>&1 && sudo -n true 2>/dev/null; then
  SUDO="sudo -n"
else
  echo "Qt needs these packages. Run this, then start again:" >&2
  echo "  sudo apt-get install -y$missing" >&2
  exit 1
fi
echo "Installing:$missing"
$SUDO apt-get update -qq && DEBIAN_FRONTEND=noninteractive $SUDO apt-get install -y -qq --no-install-recommends $missing >/dev/null
