#!/bin/sh
# build.sh PRESET [TARGET...]: configures and builds one of the presets in CMakePresets.json.
set -eu
root=$(cd "$(dirname "$0")/.." && pwd)
preset=$1
shift
cd "$root"
cmake --preset "$preset" >/dev/null
if [ $# -gt 0 ]; then cmake --build --preset "$preset" --target "$@"; else cmake --build --preset "$preset"; fi
