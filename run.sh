#!/bin/sh
# Installs what is missing, builds, and starts Pale Orbit; with the demo take unless files or options are given.
# On a machine without a monitor:  ./run.sh --demo dual --offscreen-shot window.png
set -eu
root=$(cd "$(dirname "$0")" && pwd)
"$root/tools/install-packages.sh"
"$root/tools/build.sh" release pale-orbit porbit
case "${1-}" in
    "") set -- --demo dual ;;
    --offscreen-shot*) set -- --demo dual "$@" ;;
esac
exec "$root/build/release/src/pale-orbit" "$@"
