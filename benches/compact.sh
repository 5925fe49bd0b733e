#!/usr/bin/env bash
# What `zsap compact` gives back of real volumes, how long it takes against a copy, and what order is worth.
#
#   benches/compact.sh [FOLDER] [SIZE-IN-MiB] [RUNS]
#
# Volumes: files of SIZE together are written into ext4, FAT and NTFS, and three of four of them are deleted again; then
# `compact`, and `compact --unused`. A loader stands before the first volume, and a second volume holds random bytes, as
# an encrypted one does. The host's checkers look at what is left, and all digests are compared. A copy is that of the
# bytes that stay, with `cp --sparse=always` and a sync.
source "$(dirname "$0")/timing.sh"
mib=${2:-4096} runs=${3:-5}
begin "${1:-.}"

each=$((mib / 64)) secret=96
disk=$((mib + mib / 8 + secret + 64))
taken() { echo $(($(stat -c '%b' "$1") / 2048)); }

mkdir files shown at
for ((n = 0; n < 64; n++)); do head -c "${each}M" /dev/urandom >"files/f$n"; done
head -c 400K /dev/urandom >loader
head -c "${secret}M" /dev/urandom >secret

# Puts all files into the volume at $2, a file system of the kind $1, and deletes three of four.
live() {
    local n
    case $1 in
    fat)
        mcopy -i "$2" files/* ::
        for ((n = 0; n < 64; n++)); do ((n % 4 == 0)) || mdel -i "$2" "::f$n"; done
        ;;
    *)
        if [ "$1" = ntfs ]; then ntfs-3g "$2" at; else mount -o loop "$2" at; fi
        cp files/* at/ && sync -f at
        for ((n = 0; n < 64; n++)); do ((n % 4 == 0)) || rm "at/f$n"; done
        umount at
        ;;
    esac
}

# Shows an image in the folder `shown`, and returns when it is there.
exposes() {
    "$zsap" expose "$1" shown "${@:2}" >/dev/null &
    until [ -e shown/disk.raw ]; do sleep 0.1; done
}

# The checker of the host that knows the file system.
checks() {
    case $1 in
    ext4) e2fsck -fn "$2" ;;
    fat) fsck.vfat -n "$2" ;;
    ntfs) ntfsfix -n "$2" ;;
    esac >checked 2>&1 || { cat checked; return 1; }
}

echo "volumes: $mib MiB of files, a quarter of which stays"
for format in vhdx vhd; do
    for kind in ext4 fat ntfs; do
        image=$kind.$format
        "$zsap" -q make "$image" "${disk}M"
        "$zsap" -q prepare "$image" --volume "$((disk - secret - 8))M,fs=$kind" --volume rest
        exposes "$image" --writable
        dd if=loader of=shown/disk.raw bs=4096 seek=8 conv=notrunc status=none
        dd if=secret of=shown/part2 bs=1M conv=notrunc status=none
        live "$kind" shown/part1
        "$zsap" -q detach shown && wait
        written=$(taken "$image")
        "$zsap" -q compact "$image" 2>/dev/null
        plain=$(taken "$image")
        start=$(date +%s%N)
        "$zsap" compact "$image" --unused 2>/dev/null >told
        end=$(date +%s%N)
        unused=$(taken "$image")
        start2=$(date +%s%N)
        "$zsap" -q compact "$image" --unused 2>/dev/null
        end2=$(date +%s%N)
        "$zsap" -q check "$image" >/dev/null
        exposes "$image"
        checks "$kind" shown/part1
        cmp -n "$(stat -c %s loader)" -i 0:32768 loader shown/disk.raw
        cmp -n "$(stat -c %s secret)" secret shown/part2
        "$zsap" -q detach shown && wait
        for ((n = 0; n < 64; n += 4)); do
            name=f$n
            "$zsap" -q files get "$image" "/$name" - --volume 1 | cmp - "files/$name"
        done
        printf '%-5s %-5s %5d MiB written, %5d after compact, %5d after --unused (%d ms; nothing left to do: %d ms)\n' \
            "$format" "$kind" "$written" "$plain" "$unused" $(((end - start) / 1000000)) $(((end2 - start2) / 1000000))
        rm "$image"
    done
done
rm -rf files

echo "speed: $((mib / 2)) MiB stay of $mib MiB, every other part of 2 MiB is zeros"
head -c "$((mib / 2))M" /dev/urandom >live.raw
python3 - "$mib" <<'P'
import sys
half = int(sys.argv[1]) // 4
with open("live.raw", "rb") as live, open("holed.raw", "wb") as holed:
    for _ in range(half):
        holed.write(b"\1" * (2 << 20))
        holed.write(live.read(2 << 20))
P
for format in vhdx vhd; do
    "$zsap" -q copy holed.raw "holed.$format"
    # What is 1 becomes zeros that the file holds: whoever writes zeros through a server has them taken for a hole.
    python3 - "holed.$format" <<'P'
import sys
ones, zeros = b"\1" * (1 << 20), bytes(1 << 20)
with open(sys.argv[1], "r+b", buffering=0) as image:
    at = 0
    while part := image.read(1 << 20):
        for page in range(0, len(part), 4096):
            if part[page : page + 4096] == ones[:4096]:
                image.seek(at + page)
                image.write(zeros[:4096])
        at += len(part)
        image.seek(at)
P
    # The same with gaps in the place of zeros.
    cp --sparse=always "holed.$format" "gaps.$format"
    "$zsap" -q compact "gaps.$format" --holes-only 2>/dev/null
done
rm holed.raw
cp_synced() { cp --sparse=always live.raw target.raw && sync target.raw; }
compact() { "$zsap" -q compact "$1" 2>/dev/null; }
for ((run = 0; run <= runs; run++)); do
    ((run != 1)) || times=() # the first round only warms up
    once cp+sync cp_synced
    for format in vhdx vhd; do
        cp --sparse=always "gaps.$format" "work.$format"
        once "gaps $format" compact "work.$format"
        cp --sparse=never "holed.$format" "work.$format"
        once "zeros $format" compact "work.$format"
        once "nothing left $format" compact "work.$format"
        rm "work.$format"
    done
done
base=$(median <<<"${times[cp+sync]}")
for name in cp+sync "gaps vhdx" "gaps vhd" "zeros vhdx" "zeros vhd" "nothing left vhdx" "nothing left vhd"; do
    own=$(median <<<"${times[$name]}")
    awk -v n="$name" -v t="$own" -v b="$base" -v r="$(range <<<"${times[$name]}")" \
        'BEGIN { printf "%-18s %6.2f s   %5.2f x cp+sync   (%s)\n", n, t/1e6, t/b, r }'
done
rm -f holed.* gaps.* live.raw target.raw

echo "order: a disk of $((mib / 4)) MiB whose blocks were written in an order of their own, read from a cold cache"
cold() { sync && echo 3 >/proc/sys/vm/drop_caches && "$zsap" -q bytes read "$1" --at 0 --len "$((mib / 4))M" >/dev/null; }
for format in vhdx vhd; do
    "$zsap" -q make "scattered.$format" "$((mib / 4))M" --block-size "$([ $format = vhd ] && echo 512K || echo 1M)"
    exposes "scattered.$format" --writable
    python3 - "$mib" <<'P'
import os, random, sys
random.seed(7)
parts = list(range(int(sys.argv[1]) // 2))
random.shuffle(parts)
with open("shown/disk.raw", "r+b", buffering=0) as disk:
    for part in parts:
        disk.seek(part * (512 << 10))
        disk.write(os.urandom(512 << 10))
P
    "$zsap" -q detach shown && wait
    cp --sparse=always "scattered.$format" "ordered.$format"
    start=$(date +%s%N)
    "$zsap" compact "ordered.$format" --reorder 2>/dev/null | sed -n 2,3p
    printf '%s reordered in %d ms\n' "$format" $((($(date +%s%N) - start) / 1000000))
done
times=()
for ((run = 0; run < runs; run++)); do
    for name in scattered.vhdx ordered.vhdx scattered.vhd ordered.vhd; do
        start=$(date +%s%N)
        cold "$name"
        times[$name]+="$((($(date +%s%N) - start) / 1000)) "
    done
done
for format in vhdx vhd; do
    for name in "scattered.$format" "ordered.$format"; do
        awk -v n="$name" -v t="$(median <<<"${times[$name]}")" -v b="$(median <<<"${times[scattered.$format]}")" \
            -v r="$(range <<<"${times[$name]}")" \
            'BEGIN { printf "%-16s %6.2f s   %5.2f of the scattered one   (%s)\n", n, t/1e6, t/b, r }'
    done
done
