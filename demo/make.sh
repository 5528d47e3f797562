#!/bin/sh
# Renders the demo takes anew: the folders beside this script hold what it printed. About an hour on two cores.
set -eu
here=$(cd "$(dirname "$0")" && pwd)
porbit=${PORBIT:-$here/../build/release/src/porbit}
common="--seconds 4 --rate 24 --crf 23 --truth-width 1536 --truth-times 1"
"$porbit" simulate hall --rig two-fisheyes --size 960 $common --out "$here/dual"
"$porbit" simulate hall --rig pair-180 --size 720 $common --out "$here/pair"
# The ring's lenses and poses are not quite those it was planned with, and its cameras' colours differ: there is something to solve.
"$porbit" simulate hall --rig ring-of-six --size 960 $common --faults lens,pose,exposure,white-balance,vignetting --seed 6 --out "$here/ring"
(cd "$here/ring" && "$porbit" shot hall_ring.porb --rig nominal.rig.json --reach A=95 --reach B=95 --reach C=95 --reach D=95 --reach E=95 --reach F=95)
# Two eyes drawn from the ring's footage: the rig as it is solved from it, its colours matched.
mkdir -p "$here/stereo"
solved=$(mktemp -d)
cp "$here"/ring/hall_ring* "$solved"
"$porbit" solve "$solved/hall_ring.porb"
"$porbit" rig "$solved/hall_ring.porb" --out "$here/stereo/solved.rig.json"
rm -r "$solved"
(cd "$here/stereo" &&
    "$porbit" new hall_stereo.porb --force --rig solved.rig.json --shot "Hall, two eyes" \
        $(for c in A B C D E F; do echo "--source $c=../ring/hall_ring_$c.mp4"; done) &&
    "$porbit" match hall_stereo.porb &&
    "$porbit" shot hall_stereo.porb --agree 5.4 $(for c in A B C D E F; do echo "--reach $c=95"; done) &&
    "$porbit" eyes hall_stereo.porb --from distances --converge 2.5)
rm -f "$here"/*/calibration_*.yml "$here"/*/motion.csv
