#!/bin/sh
# Installs what is missing, builds, and runs every test; the core's once more under the address and undefined-behaviour
# sanitizers. Needs neither a monitor nor the network once the packages are there.
#   ./test.sh quick    leaves the sanitizers out
#   ./test.sh all      the window and the command line under the sanitizers, too, with every check, and the core's threads (two hours)
set -eu
root=$(cd "$(dirname "$0")" && pwd)
"$root/tools/install-packages.sh"
"$root/tools/build.sh" release
export QT_QPA_PLATFORM=offscreen XDG_RUNTIME_DIR="${XDG_RUNTIME_DIR:-/tmp}"
ctest --test-dir "$root/build/release" --output-on-failure --parallel "$(nproc)"
"$root/tools/stress.sh" 30 1
[ "${1-}" = quick ] && exit 0
"$root/tools/build.sh" sanitizers
# Leaks are looked for in our own code; the libraries' tables that live until the end are listed.
export ASAN_OPTIONS=detect_leaks=1 LSAN_OPTIONS="suppressions=$root/tests/leaks.txt:print_suppressions=0" UBSAN_OPTIONS=print_stacktrace=1
ctest --test-dir "$root/build/sanitizers" --output-on-failure --parallel "$(nproc)" --label-regex core
[ "${1-}" = all ] || exit 0
"$root/tools/build.sh" sanitizers-all
ctest --test-dir "$root/build/sanitizers-all" --output-on-failure --label-regex whole
"$root/tools/build.sh" threads
export TSAN_OPTIONS="suppressions=$root/tests/threads.txt history_size=4"
ctest --test-dir "$root/build/threads" --output-on-failure --tests-regex "values_test|master_test|stitch_test|flow_test"
