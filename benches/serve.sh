#!/usr/bin/env bash
# A served disk against positioned reads and writes of a raw file with the same content: the same requests, sizes and
# depth by the same program, in turn, through the page cache; writes with the final sync. Needs fio with its nbd engine.
# Usage: benches/serve.sh FOLDER MIB ROUNDS [zsap]
set -euo pipefail
folder=$1 mib=$2 rounds=$3 zsap=${4:-target/release/zsap}
work=$(mktemp -d "$folder/serve.XXXX")
zsap=$(realpath "$zsap")
servers=()
trap 'kill "${servers[@]}" 2>/dev/null; sleep 0.5; chmod -R u+w "$work"; rm -rf "$work"' EXIT
cd "$work"

dd if=/dev/urandom of=plain.raw bs=1M count="$mib" status=none
for format in vhdx vhd; do "$zsap" -q copy plain.raw "one.$format"; done
"$zsap" -q copy plain.raw base.vhdx
below=base.vhdx
for layer in $(seq 15); do
    "$zsap" -q derive "$below" "layer-$layer.vhdx" 2>/dev/null
    below=layer-$layer.vhdx
    head -c 2M /dev/urandom | "$zsap" -q bytes write "$below" --at $((layer * 16))M
done
serve() { # IMAGE: its socket
    "$zsap" serve "$1" --writable --socket "$work/$1.sock" >/dev/null 2>&1 &
    servers+=($!)
    for _ in $(seq 100); do [ -S "$1.sock" ] && break || sleep 0.05; done
}
serve one.vhdx
serve one.vhd
serve "$below"

# The bytes a second of a job, by fio's own measure, which ends with the sync.
run() { # WHERE KIND SIZE DEPTH JOBS BYTES
    local where=$1 place
    case $where in
    plain) place=(--ioengine=io_uring "--filename=$work/plain.raw") ;;
    *) place=(--ioengine=nbd "--uri=nbd+unix:///$where?socket=$work/$where.sock") ;;
    esac
    fio --name=x "${place[@]}" --rw="$2" --bs="$3" --iodepth="$4" --numjobs="$5" --io_size="$6" --size="${mib}m" --thread \
        --end_fsync=1 --randrepeat=0 --norandommap --group_reporting --output-format=json 2>/dev/null |
        python3 -c 'import json,sys; job=json.load(sys.stdin)["jobs"][0]; s=sum(job[k]["io_bytes"] for k in ("read","write")); t=max(job[k]["runtime"] for k in ("read","write")) or 1; print(s/t*1000)'
}

declare -A seen
cases=(
    "read 1m 4 1 ${mib}m" "write 1m 4 1 ${mib}m" "randread 4k 16 1 256m" "randwrite 4k 16 1 256m"
    "randread 4k 16 2 256m" "read 1m 4 2 ${mib}m"
)
for _ in $(seq "$rounds"); do
    for case in "${cases[@]}"; do
        for where in plain one.vhdx one.vhd "$below"; do
            # shellcheck disable=SC2086
            seen["$case|$where"]+="$(run "$where" $case) "
        done
    done
done
for case in "${cases[@]}"; do
    for where in plain one.vhdx one.vhd "$below"; do
        echo "$case|$where|${seen["$case|$where"]}|${seen["$case|plain"]}"
    done
done | python3 -c '
import statistics, sys
for line in sys.stdin:
    case, where, own, plain = line.rstrip("\n").split("|")
    own, plain = ([float(x) / 2**20 for x in text.split()] for text in (own, plain))
    ratios = [o / p for o, p in zip(own, plain)]
    print(f"{case:32} {where:14} {statistics.median(own):7.0f} MiB/s ({min(own):.0f} to {max(own):.0f})"
          f"  {statistics.median(ratios):.2f} of plain ({min(ratios):.2f} to {max(ratios):.2f})")
'
for pid in "${servers[@]}"; do grep VmHWM "/proc/$pid/status"; done
