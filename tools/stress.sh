#!/bin/bash
# stress.sh [SECONDS [SEED]]: tries to lose work. Verbs with odd options, damaged files of every kind that is
# read, kills at random moments (verbs, masters, the window), two programs on one project. Prints a table of what
# was tried and what went wrong, and fails when anything did. Needs the release build and bash alone.
set -u
root=$(cd "$(dirname "$0")/.." && pwd)
bin=$root/build/release/src
porbit=$bin/porbit
seconds=${1:-60}
RANDOM=${2:-$$}
work=$(mktemp -d)
trap 'kill $(jobs -p) 2>/dev/null; rm -rf "$work"' EXIT
export QT_QPA_PLATFORM=offscreen XDG_CONFIG_HOME=$work/config XDG_DATA_HOME=$work/data
cd "$work" || exit 2

for f in "$root"/tests/takes/ring/*.mp4 "$root"/demo/dual/*.mp4; do ln -s "$f" .; done
cp "$root/tests/takes/ring/hall_ring.porb" good.porb
cp "$root/tests/takes/ring/truth.rig.json" good.rig.json
cp "$root/tests/fuzz/seeds/pair.yml" good.yml
cp "$root/tests/fuzz/seeds/pair.xml" good.xml
cp "$root/tests/fuzz/seeds/one.json" good.json
cp "$root/tests/fuzz/seeds/motion.csv" good.csv
cp good.porb p.porb
"$porbit" grade p.porb --exposure 0.2 --saturation 1.1 --write-cube good.cube >/dev/null
"$porbit" grade p.porb --reset --saturation 1.1 --write-cdl good.cc >/dev/null
"$porbit" still good.porb --time 0.1 --width 256 --out good.png >/dev/null
"$porbit" still good.porb --time 0.1 --width 256 --out good.exr >/dev/null
"$porbit" still good.porb --time 0.1 --width 256 --out good.jpg >/dev/null
"$porbit" still good.porb --time 0.1 --width 256 --out good.tif >/dev/null
"$porbit" master good.porb --preset sphere-h264 --width 256 --to 0.2 --out good.mp4 >/dev/null

tries=(0 0 0 0) crashes=0 hangs=0 unreadable=0 lost=0 leftovers=0
wrong() { echo "$1: ${*:2}"; }
# What does not end in a minute is started once more and may take ten: a busy machine is no hang.
patient() {
    timeout 60 "$@" >/dev/null 2>&1
    local status=$?
    [ "$status" -eq 124 ] || return "$status"
    timeout 600 "$@" >/dev/null 2>&1
}
# Whether a status says that the program crashed or hung (timeout's 124 and 137).
judge() {
    local status=$1
    shift
    if [ "$status" -eq 124 ] || [ "$status" -eq 137 ]; then hangs=$((hangs + 1)); wrong hang "$@"
    elif [ "$status" -gt 2 ]; then crashes=$((crashes + 1)); wrong "status $status" "$@"; fi
}
readable() {
    timeout 30 "$porbit" rig p.porb >/dev/null 2>&1 || { unreadable=$((unreadable + 1)); wrong unreadable "$@"; cp good.porb p.porb; }
}
left_behind() {
    # Leftovers may stay until the next run: that run is here.
    touch -d '1 minute ago' .porb-*.part* 2>/dev/null
    timeout 30 "$porbit" shot p.porb --roll 0 >/dev/null 2>&1
    local left
    left=$(find . -maxdepth 1 -name '.porb-*' ! -name '*.lock' | wc -l)
    [ "$left" -eq 0 ] || { leftovers=$((leftovers + left)); wrong leftovers "$@"; rm -rf .porb-*; }
}
any() { eval "local n=\${#$1[@]}; echo \"\${$1[\$((RANDOM % n))]}\""; }

values=(nan inf -inf 1e308 -1e308 -1 0 "" 1e-320 99999999 1/0 0/0 "$(printf 'x%.0s' {1..5000})" $'a\nb' $'\xff')
options=("shot p.porb --yaw=V" "shot p.porb --agree=V" "shot p.porb --offset=A=V" "shot p.porb --rate=V" "shot p.porb --in=V"
    "shot p.porb --out=V" "shot p.porb --reach=A=V" "shot p.porb --widest-band=V" "shot p.porb --flow-zone=V" "shot p.porb --sound=V"
    "shot p.porb --rig=V" "shot p.porb --source=A=V" "shot p.porb --shot=V --yaw=1" "grade p.porb --exposure=V" "grade p.porb --lift=V"
    "grade p.porb --lut=V" "grade p.porb --cdl=V" "level p.porb --key-yaw=V" "level p.porb --at=V" "level p.porb --face=V" "level p.porb --lines=V"
    "steady p.porb --strength=V" "steady p.porb --record=V" "denoise p.porb --over-time=V" "flow p.porb --key=V=1" "flow p.porb --key=1=V"
    "flow p.porb --seam=V --zone=3" "shelter p.porb --at=V" "shelter p.porb --at=1,1 --size=V" "shelter p.porb --at=1,1 --time=V"
    "shelter p.porb --at=1,1 --name=V" "shape p.porb --camera=A --cut-out --corner=V --corner=1,900 --corner=500,500" "shape p.porb --camera=V --cut-out"
    "match p.porb --exposure=A=V" "match p.porb --reference=V" "lines p.porb --ease=V" "crossings p.porb --leave=V" "points p.porb --remove=V"
    "points p.porb --drop-above=V" "curve p.porb --all=V" "calibration p.porb --camera=A --read=V" "profiles --use=p.porb V" "still p.porb --time=V --width=128 --out=o.png"
    "still p.porb --width=V --out=o.png" "still p.porb --width=128 --out=V.png" "master p.porb --preset=V --out=o.mp4" "master p.porb --preset=sphere-h264 --width=128 --to=V --out=o.mp4"
    "master p.porb --preset=sphere-h264 --width=V --to=0.1 --out=o.mp4" "solve p.porb --one-moment --nearest=V --samples=1" "solve p.porb --at=V"
    "rig p.porb --against=V" "inspect V" "tag V --out=o.mp4" "takes V" "motion V" "new n.porb --rig=V --source=A=good.mp4" "sync p.porb --apart=V")
odd_option() {
    local words=() w value
    value=$(any values)
    local line
    line=$(any options)
    for w in $line; do words+=("${w//V/$value}"); done
    tries[0]=$((tries[0] + 1))
    patient "$porbit" "${words[@]}"
    judge $? "${words[*]:0:4}" "(${value:0:20})"
    readable "$line" "(${value:0:20})"
    rm -f o.* n.porb
}

readers=("porb:rig F" "porb:still F --width 128 --out o.png" "rig.json:new n.porb --force --rig F --source A=hall_ring_A.mp4" "yml:calibration p.porb --camera A --camera B --read F"
    "xml:calibration p.porb --camera A --camera B --read F" "json:calibration p.porb --camera A --read F" "csv:motion F" "cube:grade p.porb --lut F" "cc:grade p.porb --cdl F"
    "png:inspect F" "exr:inspect F" "jpg:inspect F" "tif:inspect F" "mp4:inspect F" "mp4:takes F" "mp4:tag F --out o.mp4" "mp4:motion F" "exr:takes F" "png:takes F" "cube:curve p.porb --all F")
damaged_file() {
    local reader kind words size at n
    reader=$(any readers)
    kind=${reader%%:*}
    cp "good.$kind" "bad.$kind"
    size=$(stat -c %s "bad.$kind")
    for ((n = RANDOM % 12; n >= 0; --n)); do
        at=$(((RANDOM * 32768 + RANDOM) % size))
        case $((RANDOM % 3)) in
        0) head -c $((1 + RANDOM % 4)) /dev/urandom | dd of="bad.$kind" bs=1 seek="$at" conv=notrunc status=none ;;
        1) printf '%s' "$(any values)" | head -c 40 | tr -d '\n' | dd of="bad.$kind" bs=1 seek="$at" conv=notrunc status=none ;;
        2) [ $((RANDOM % 4)) -eq 0 ] && truncate -s "$at" "bad.$kind" && size=$((at > 0 ? at : 1)) ;;
        esac
    done
    words=${reader#*:}
    cp good.porb p.porb
    tries[1]=$((tries[1] + 1))
    # shellcheck disable=SC2086
    patient "$porbit" ${words//F/bad.$kind}
    judge $? "damaged $reader"
    readable "damaged $reader"
    rm -f o.* n.porb
}

verbs=("solve p.porb --samples 2" "shot p.porb --yaw 5" "grade p.porb --exposure 1" "match p.porb" "lines p.porb" "level p.porb --find" "shelter p.porb --at 20,0 --name k"
    "master p.porb --preset sphere-h264 --width 512 --out o.mp4" "master p.porb --preset sphere-png --width 256 --out o.%03d.png" "still p.porb --time 0.3 --width 2048 --out o.png"
    "denoise p.porb --on --out o.png" "window p.porb")
killed() {
    local verb pid signal=KILL
    cp good.porb p.porb
    "$porbit" shot p.porb --pitch 7 >/dev/null 2>&1
    verb=$(any verbs)
    [ $((RANDOM % 3)) -eq 0 ] && signal=TERM
    tries[2]=$((tries[2] + 1))
    # shellcheck disable=SC2086
    if [ "${verb%% *}" = window ]; then
        signal=KILL
        [ -x "$bin/pale-orbit" ] || return
        "$bin/pale-orbit" p.porb >/dev/null 2>&1 &
    else "$porbit" $verb >/dev/null 2>&1 & fi
    pid=$!
    sleep "$((RANDOM % 2)).$((RANDOM % 10))$((RANDOM % 10))"
    kill -$signal $pid 2>/dev/null
    for ((n = 0; n < 100; ++n)); do kill -0 $pid 2>/dev/null || break; sleep 0.1; done
    kill -0 $pid 2>/dev/null && { hangs=$((hangs + 1)); wrong hang "after SIG$signal: $verb"; kill -KILL $pid; }
    wait $pid 2>/dev/null
    readable "killed $verb"
    grep -q '"pitch_deg": 7.0' p.porb || { lost=$((lost + 1)); wrong lost "killed $verb"; }
    left_behind "killed $verb"
    # A movie under its final name is whole; a sequence is of one size.
    [ ! -e o.mp4 ] || "$porbit" inspect o.mp4 >/dev/null 2>&1 || { lost=$((lost + 1)); wrong "half a movie" "$verb"; }
    rm -f o.*
}

two_at_once() {
    local yaw=$((RANDOM % 90)) ev=$((RANDOM % 9)) a b
    tries[3]=$((tries[3] + 1))
    "$porbit" shot p.porb --yaw $yaw >/dev/null 2>&1 &
    a=$!
    "$porbit" grade p.porb --exposure $ev >/dev/null 2>&1 &
    b=$!
    wait $a
    judge $? "shot beside grade"
    wait $b
    judge $? "grade beside shot"
    readable "two at once"
    { "$porbit" grade p.porb --list | grep -q "exposure +$ev.00" && grep -q "\"yaw_deg\": $yaw.0" p.porb; } ||
        { lost=$((lost + 1)); wrong lost "shot beside grade"; }
}

cp good.porb p.porb
end=$((SECONDS + seconds))
while [ $SECONDS -lt $end ]; do
    odd_option
    odd_option
    damaged_file
    damaged_file
    [ $((RANDOM % 2)) -eq 0 ] && killed
    [ $((RANDOM % 3)) -eq 0 ] && cp good.porb p.porb && two_at_once
done
find . -maxdepth 1 -name '.porb-*.lock' -delete
printf '%-28s %6d\n' "odd options" "${tries[0]}" "damaged files" "${tries[1]}" "kills" "${tries[2]}" "two at once" "${tries[3]}" \
    "crashes" $crashes "hangs" $hangs "unreadable projects" $unreadable "lost" $lost "leftovers that stay" $leftovers
[ $((crashes + hangs + unreadable + lost + leftovers)) -eq 0 ]
