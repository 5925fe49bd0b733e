#!/usr/bin/env bash
# How long fixed disks take: reserved ones alone, written ones against `dd` of zeros, run in turn.
#
#   benches/fixed.sh [FOLDER] [RESERVED-GiB] [WRITTEN-MiB] [RUNS]
#
# A disk made by `zsap` is durable when it returns, so `dd` is told to sync as well.
set -euo pipefail
folder=$(realpath "${1:-.}") gib=${2:-50} mib=${3:-2048} runs=${4:-7}
cd "$(dirname "$0")/.."
cargo build --release --quiet
zsap=$PWD/target/release/zsap
work=$(mktemp -d "$folder/zsap-bench.XXXXXX")
trap 'rm -rf "$work"' EXIT
cd "$work"

declare -A times
once() { # NAME COMMAND...
    local name=$1 start end
    shift
    rm -f target.*
    # The host discards the space of the removed file for a while after.
    sync -f . && sleep 1
    start=$(date +%s%N)
    "$@"
    end=$(date +%s%N)
    times[$name]+="$(((end - start) / 1000)) "
}
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

median() { tr ' ' '\n' | grep . | sort -n | awk '{v[NR]=$1} END {print v[int((NR+1)/2)]}'; }
range() { tr ' ' '\n' | grep . | sort -n | awk 'NR==1{a=$1} {b=$1} END {printf "%.3f to %.3f s", a/1e6, b/1e6}'; }
base=$(median <<<"${times[dd]}")
printf 'reserved: %d GiB; written: %d MiB; %d runs in turn\n' "$gib" "$mib" "$runs"
for name in reserved-raw reserved-vhd reserved-vhdx dd written-raw written-vhd written-vhdx; do
    awk -v n="$name" -v t="$(median <<<"${times[$name]}")" -v b="$base" -v r="$(range <<<"${times[$name]}")" \
        'BEGIN { printf "%-14s %8.1f ms   %5.2f x dd   (%s)\n", n, t/1e3, t/b, r }'
done
