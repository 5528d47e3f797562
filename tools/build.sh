#!/bin/sh
# build.sh PRESET [TARGET...]: configures and builds one of the presets in CMakePresets.json.
# With PORB_TOGETHER=ON a folder's files are compiled as one, which is quicker where nothing is built yet.
set -eu
root=$(cd "$(dirname "$0")/.." && pwd)
preset=$1
shift
cd "$root"
cmake --preset "$preset" -DPORB_TOGETHER="${PORB_TOGETHER:-OFF}" >/dev/null
if [ $# -gt 0 ]; then cmake --build --preset "$preset" --target "$@"; else cmake --build --preset "$preset"; fi
