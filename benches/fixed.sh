#!/usr/bin/env bash
# How long fixed disks take: reserved ones alone, written ones against `dd` of zeros, run in turn.
#
#   benches/fixed.sh [FOLDER] [RESERVED-GiB] [WRITTEN-MiB] [RUNS]
#
# A disk made by `zsap` is durable when it returns, so `dd` is told to sync as well.
source "$(dirname "$0")/timing.sh"
gib=${2:-50} mib=${3:-2048} runs=${4:-7}
begin "${1:-.}"

for ((run = 0; run <= runs; run++)); do
    ((run != 1)) || times=() # the first round only warms up
    for ending in raw vhd vhdx; do
        once "reserved-$ending" "$zsap" -q make "target.$ending" "${gib}G" --kind fixed
    done
    once dd dd if=/dev/zero of=target.raw bs=1M count="$mib" conv=fsync status=none
    for ending in raw vhd vhdx; do
        once "written-$ending" "$zsap" -q make "target.$ending" "${mib}M" --kind fixed --space written
    done
done

base=$(median <<<"${times[dd]}")
printf 'reserved: %d GiB; written: %d MiB; %d runs in turn\n' "$gib" "$mib" "$runs"
for name in reserved-raw reserved-vhd reserved-vhdx dd written-raw written-vhd written-vhdx; do
    awk -v n="$name" -v t="$(median <<<"${times[$name]}")" -v b="$base" -v r="$(range <<<"${times[$name]}")" \
        'BEGIN { printf "%-14s %8.1f ms   %5.2f x dd   (%s)\n", n, t/1e3, t/b, r }'
done
