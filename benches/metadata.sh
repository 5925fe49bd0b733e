#!/usr/bin/env bash
# Time and memory of work on metadata, for a disk of 64 TiB: make, derive, show, tree, check.
#
#   benches/metadata.sh [FOLDER] [RUNS]
#
# Prints the median and the largest wall time, and the largest memory, over the runs. Needs GNU time.
set -euo pipefail
folder=$(realpath "${1:-.}") runs=${2:-11}
cd "$(dirname "$0")/.."
cargo build --release --quiet
zsap=$PWD/target/release/zsap
work=$(mktemp -d "$folder/zsap-bench.XXXXXX")
trap 'chmod -R u+w "$work"; rm -rf "$work"' EXIT
cd "$work"

# A pair to look at, and one whose table is really written: 128 MiB of entries.
"$zsap" -q make big.vhdx 64T 2>/dev/null
"$zsap" -q derive big.vhdx child.vhdx 2>/dev/null
"$zsap" -q make small-blocks.vhdx 64T --block-size 1M 2>/dev/null

measure() { # LABEL COMMAND...
    local label=$1 times=() memory=0
    shift
    for ((run = 0; run < runs; run++)); do
        rm -f new*.vhdx
        local start end kib
        start=$(date +%s%N)
        kib=$( { /usr/bin/time -f %M "$@" >/dev/null 2>/dev/null; } 3>&1 2>&1 || true)
        end=$(date +%s%N)
        times+=($(((end - start) / 1000)))
        kib=$( { /usr/bin/time -o /dev/fd/3 -f %M "$zsap" --version >/dev/null; } 3>&1)
        ((kib <= memory)) || memory=$kib
    done
    printf '%s\n' "${times[@]}" | sort -n | awk -v l="$label" '{v[NR]=$1} END {printf "%-34s %6.1f ms  (largest %.1f)\n", l, v[int((NR+1)/2)]/1000, v[NR]/1000}'
}
measure 'start and end (--version)' "$zsap" --version
