#!/bin/sh
# Renders the demo takes anew: the three folders beside this script hold what it printed. About half an hour on two cores.
set -eu
here=$(cd "$(dirname "$0")" && pwd)
porbit=${PORBIT:-$here/../build/release/src/porbit}
common="--seconds 4 --rate 24 --crf 23 --truth-width 1536 --truth-times 1"
"$porbit" simulate hall --rig two-fisheyes --size 960 $common --out "$here/dual"
"$porbit" simulate hall --rig pair-180 --size 720 $common --out "$here/pair"
"$porbit" simulate hall --rig ring-of-six --size 480 $common --out "$here/ring"
