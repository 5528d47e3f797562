#!/bin/sh
# Installs whatever packaging/debian-packages.txt names and is not there yet. Needs root (or sudo) only then.
set -eu
root=$(cd "$(dirname "$0")/.." && pwd)
missing=
for package in $(grep -v '^#' "$root/packaging/debian-packages.txt"); do
    status=$(dpkg-query -W -f='${Status}' "$package" 2>/dev/null || true)
    [ "$status" = "install ok installed" ] || missing="$missing $package"
done
[ -n "$missing" ] || exit 0
echo "Installing:$missing"
as_root=
if [ "$(id -u)" -ne 0 ]; then
    if command -v sudo >/dev/null; then as_root=sudo; else
        echo "These packages are missing and need root to install: apt-get install$missing" >&2
        exit 1
    fi
fi
$as_root apt-get update -qq
DEBIAN_FRONTEND=noninteractive $as_root apt-get install -y -qq --no-install-recommends $missing >/dev/null
