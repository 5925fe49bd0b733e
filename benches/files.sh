#!/usr/bin/env bash
# Time and memory of looking into disks: a list of 50,000 files on ext4, a file of 1 GiB out of a chain of 16 layers against a plain
# copy of the same file out of a loop mount, and the preparation of a disk of 64 TiB.
#
#   benches/files.sh [FOLDER] [RUNS]
#
# Both copies begin with an empty cache and end with a sync. Prints the median and the largest wall time of the whole process, and its
# largest memory. Needs root, a loop device, mkfs.ext4, GNU time, and 6 GiB.
set -euo pipefail
folder=$(realpath "${1:-.}") runs=${2:-5}
cd "$(dirname "$0")/.."
[ -n "${ZSAP:-}" ] || cargo build --release --quiet
zsap=${ZSAP:-$PWD/target/release/zsap}
work=$(mktemp -d "$folder/zsap-bench.XXXXXX")
trap 'umount "$work/mounted" 2>/dev/null || true; chmod -R u+w "$work"; rm -rf "$work"' EXIT
cd "$work"
mkdir many mounted one
for part in $(seq 100); do
    mkdir "many/lot-$part"
    for number in $(seq 500); do echo "$number" >"many/lot-$part/seed-$number.txt"; done
done
"$zsap" -q make many.vhdx 1G 2>/dev/null
"$zsap" -q prepare many.vhdx --volume rest,fs=ext4,fill=many 2>/dev/null
head -c 1G /dev/urandom >one/sheets.bin
"$zsap" -q make layer-1.vhdx 2G 2>/dev/null
"$zsap" -q prepare layer-1.vhdx --volume rest,fs=ext4,fill=one 2>/dev/null
rm -r one many
for layer in $(seq 2 16); do
    "$zsap" -q derive "layer-$((layer - 1)).vhdx" "layer-$layer.vhdx" 2>/dev/null
    # Each layer holds a piece of the file, the same as below.
    at=$((layer * 64))M
    "$zsap" bytes read "layer-$layer.vhdx" --at $at --len 64M -o piece >/dev/null
    "$zsap" -q bytes write "layer-$layer.vhdx" --at $at -i piece 2>/dev/null
    rm piece
done
"$zsap" -q copy layer-16.vhdx plain.raw 2>/dev/null
mount -o loop,ro,offset=1048576 plain.raw mounted

measure() { # LABEL BEFORE COMMAND...
    local label=$1 before=$2 run start end
    shift 2
    for ((run = 0; run < runs; run++)); do
        eval "$before"
        start=$(date +%s%N)
        /usr/bin/time -o memory -f %M "$@" >/dev/null 2>&1 || echo failed >&2
        end=$(date +%s%N)
        echo $(((end - start) / 1000000)) "$(cat memory)"
    done | sort -n | awk -v l="$label" '{ t[NR] = $1; if ($2 > m) m = $2 }
        END { printf "%-44s %6d ms (largest %d), %.1f MiB\n", l, t[int((NR + 1) / 2)], t[NR], m / 1024 }'
}
cold='rm -rf out; sync; echo 3 >/proc/sys/vm/drop_caches'
measure 'list of 50,000 files' : "$zsap" files list many.vhdx --recursive
measure 'the same, nothing cached' "$cold" "$zsap" files list many.vhdx --recursive
for round in 1 2; do
    measure 'cp --sparse=always of 1 GiB, and a sync' "$cold; mkdir out" bash -c 'cp --sparse=always mounted/sheets.bin out/ && sync -f out'
    measure 'files get of it, 16 layers' "$cold" "$zsap" files get layer-16.vhdx /sheets.bin out
done
"$zsap" -q make large.vhdx 64T 2>/dev/null
measure 'prepare of 64 TiB' : "$zsap" prepare large.vhdx --volume rest --force=not-blank
