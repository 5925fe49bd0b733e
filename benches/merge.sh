#!/usr/bin/env bash
# How long `zsap merge` takes against `dd` with a sync of as many bytes, run in turn; and against that and the removal of a
# file of as many bytes, since that is what becomes of a merged child, and some hosts take long to give space back.
#
#   benches/merge.sh [FOLDER] [SIZE-IN-MiB] [RUNS]
#
# The base has 1 TiB and holds as much again as is merged into it; the data is in one child, or in eight layers that hold
# an eighth each, in pieces of 1 to 16 MiB all over the disk. The page cache is warm for all.
source "$(dirname "$0")/timing.sh"
mib=${2:-1024} runs=${3:-5}
begin "${1:-.}"

dd if=/dev/urandom of=data bs=1M count="$mib" status=none

# fill IMAGE FIRST COUNT: MiB FIRST up to FIRST+COUNT of the data, scattered.
fill() {
    local at=$2 end=$(($2 + $3)) step
    while ((at < end)); do
        step=$((at * 7 % 16 + 1))
        ((at + step <= end)) || step=$((end - at))
        dd if=data bs=1M skip=$at count=$step status=none | "$zsap" -q bytes write "$1" --at $((at * 37 % 1000))G
        at=$((at + step))
    done
}

prepare() {
    local format=$1 layers=$2 parent=base.$1 number
    "$zsap" -q make "base.$format" 1T 2>/dev/null
    "$zsap" -q bytes write "base.$format" --at 1000G <data
    for ((number = 1; number <= layers; number++)); do
        "$zsap" -q derive "$parent" "layer-$number.$format" 2>/dev/null
        parent=layer-$number.$format
        fill "$parent" $(((number - 1) * mib / layers)) $((mib / layers))
    done
}

# A timed run of its own: each begins from the same files.
merged() {
    local format=$1 layers=$2 start
    rm -f ./*."$format" ./*.zsap.*
    cp --sparse=always kept-"$format-$layers"/* .
    cat ./*."$format" >/dev/null
    sync -f . && sleep 1
    start=$(date +%s%N)
    "$zsap" -q merge "layer-$layers.$format" --into "base.$format" --keep-name parent
    times[$format-$layers]+="$((($(date +%s%N) - start) / 1000)) "
}

written_and_removed() {
    local start
    cp data victim
    sync -f . && sleep 1
    start=$(date +%s%N)
    dd if=data of=target.raw bs=1M conv=fsync status=none
    rm victim
    times[dd+rm]+="$((($(date +%s%N) - start) / 1000)) "
}

for format in vhdx vhd; do
    for layers in 1 8; do
        prepare "$format" "$layers"
        mkdir "kept-$format-$layers"
        mv ./*."$format" ./*.zsap.json "kept-$format-$layers"
    done
done
for ((run = 0; run <= runs; run++)); do
    ((run != 1)) || times=() # the first round only warms up
    once dd dd if=data of=target.raw bs=1M conv=fsync status=none
    rm -f target.raw
    written_and_removed
    for format in vhdx vhd; do
        for layers in 1 8; do merged "$format" "$layers"; done
    done
done

base=$(median <<<"${times[dd]}") removed=$(median <<<"${times[dd+rm]}")
printf '%d MiB into a base of 1 TiB, %d runs in turn\n' "$mib" "$runs"
for name in dd dd+rm vhdx-1 vhdx-8 vhd-1 vhd-8; do
    own=$(median <<<"${times[$name]}")
    awk -v n="$name" -v t="$own" -v b="$base" -v m="$removed" -v r="$(range <<<"${times[$name]}")" \
        'BEGIN { printf "%-8s %6.2f s   %5.2f x dd   %5.2f x dd+rm   (%s)\n", n, t/1e6, t/b, t/m, r }'
done
