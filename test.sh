#!/bin/sh
# Installs what is missing, builds, and runs every test; the core's once more under the address and undefined-behaviour
# sanitizers. Needs neither a monitor nor the network once the packages are there.
#   ./test.sh quick    leaves the sanitizers out
set -eu
root=$(cd "$(dirname "$0")" && pwd)
"$root/tools/install-packages.sh"
"$root/tools/build.sh" release
export QT_QPA_PLATFORM=offscreen XDG_RUNTIME_DIR="${XDG_RUNTIME_DIR:-/tmp}"
ctest --test-dir "$root/build/release" --output-on-failure --parallel "$(nproc)"
[ "${1-}" = quick ] && exit 0
"$root/tools/build.sh" sanitizers
# Leaks are looked for in our own code; the libraries' tables that live until the end are listed.
export ASAN_OPTIONS=detect_leaks=1 LSAN_OPTIONS="suppressions=$root/tests/leaks.txt:print_suppressions=0" UBSAN_OPTIONS=print_stacktrace=1
ctest --test-dir "$root/build/sanitizers" --output-on-failure --parallel "$(nproc)" --label-regex core
