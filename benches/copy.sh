#!/usr/bin/env bash
# How long `zsap copy` takes against `cp --sparse=always` of the same file, run in turn.
#
#   benches/copy.sh [FOLDER] [SIZE-IN-MiB] [RUNS] [OTHER-ZSAP]
#
# The source is half data in extents of mixed sizes, half holes. A copy by `zsap` is durable when it returns; `cp`
# promises nothing, so it is timed alone and together with a sync of its file. The page cache is warm for all. Another
# build of the command is run in the same turns.
source "$(dirname "$0")/timing.sh"
mib=${2:-4096} runs=${3:-7} other=${4:+$(realpath "$4")}
begin "${1:-.}"

truncate -s "${mib}M" source.raw
at=0 step=1
while ((at < mib)); do
    ((at + step <= mib)) || step=$((mib - at))
    dd if=/dev/urandom of=source.raw bs=1M seek=$at count=$step conv=notrunc status=none
    at=$((at + 2 * step)) step=$((step % 61 + 7))
done
"$zsap" -q copy source.raw source.vhdx
"$zsap" -q copy source.raw source.vhd
cat source.raw source.vhdx source.vhd >/dev/null

cp_synced() { cp --sparse=always source.raw target.raw && sync target.raw; }

for ((run = 0; run <= runs; run++)); do
    ((run != 1)) || times=() # the first round only warms up
    once cp cp --sparse=always source.raw target.raw
    once cp+sync cp_synced
    for build in "$zsap" $other; do
        before=
        [ "$build" = "$zsap" ] || before=before:
        once ${before}raw-to-vhdx "$build" -q copy source.raw target.vhdx
        once ${before}vhdx-to-raw "$build" -q copy source.vhdx target.raw
        once ${before}raw-to-vhd "$build" -q copy source.raw target.vhd
        once ${before}vhd-to-vhdx "$build" -q copy source.vhd target.vhdx
    done
done
cmp source.raw <("$zsap" -q bytes read target.vhdx --at 0 --len "${mib}M")

base=$(median <<<"${times[cp]}") synced=$(median <<<"${times[cp+sync]}")
printf '%d MiB, half of it data, %d runs in turn\n' "$mib" "$runs"
copies='raw-to-vhdx vhdx-to-raw raw-to-vhd vhd-to-vhdx'
for name in cp cp+sync $copies ${other:+$(printf 'before:%s ' $copies)}; do
    own=$(median <<<"${times[$name]}")
    awk -v n="$name" -v t="$own" -v b="$base" -v s="$synced" -v r="$(range <<<"${times[$name]}")" \
        'BEGIN { printf "%-19s %6.2f s   %5.2f x cp   %5.2f x cp+sync   (%s)\n", n, t/1e6, t/b, t/s, r }'
done
