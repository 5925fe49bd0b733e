#!/usr/bin/env bash
# Time and memory of work on metadata, for disks of 64 TiB: make, derive, show, tree, check.
#
#   benches/metadata.sh [FOLDER] [RUNS]
#
# Prints the median and the largest wall time of the whole process, and its largest memory. Needs GNU time.
set -euo pipefail
folder=$(realpath "${1:-.}") runs=${2:-15}
cd "$(dirname "$0")/.."
cargo build --release --quiet
zsap=$PWD/target/release/zsap
work=$(mktemp -d "$folder/zsap-bench.XXXXXX")
trap 'chmod -R u+w "$work"; rm -rf "$work"' EXIT
cd "$work"

"$zsap" -q make big.vhdx 64T 2>/dev/null
"$zsap" -q derive big.vhdx child.vhdx 2>/dev/null
"$zsap" -q make small-blocks.vhdx 64T --block-size 1M 2>/dev/null

measure() { # LABEL COMMAND...
    local label=$1 times=() memory=0 start end kib
    shift
    for ((run = 0; run < runs; run++)); do
        rm -f new.vhdx
        start=$(date +%s%N)
        /usr/bin/time -o memory -f %M "$@" >/dev/null 2>&1
        end=$(date +%s%N)
        times+=($(((end - start) / 1000)))
        kib=$(cat memory)
        ((kib <= memory)) || memory=$kib
    done
    printf '%s\n' "${times[@]}" | sort -n | awk -v l="$label" -v m="$memory" \
        '{v[NR]=$1} END {printf "%-32s %5.1f ms (largest %.1f), %.1f MiB\n", l, v[int((NR+1)/2)]/1000, v[NR]/1000, m/1024}'
}
measure 'a process and nothing else' true
measure 'make, 64 TiB' "$zsap" make new.vhdx 64T
measure 'make, 64 TiB, blocks of 1 MiB' "$zsap" make new.vhdx 64T --block-size 1M
measure 'derive from it' "$zsap" derive big.vhdx new.vhdx
measure 'show the child' "$zsap" show child.vhdx
measure 'show one of 1 MiB blocks' "$zsap" show small-blocks.vhdx
measure 'tree of the folder' "$zsap" tree .
measure 'check the child and its base' "$zsap" check child.vhdx
