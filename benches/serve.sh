#!/usr/bin/env bash
# A served disk against positioned reads and writes of a raw file with the same content: the same requests, sizes and
# depth by the same program, in turn, through the page cache; writes with the final sync. "plain" is the better of two ways
# (io_uring at that depth, and one call after the other). As root the last cases begin with a cold cache, the plain file
# read past it. Needs fio with its nbd engine.
# Usage: benches/serve.sh FOLDER MIB ROUNDS [zsap]
set -euo pipefail
folder=$1 mib=$2 rounds=$3 zsap=${4:-target/release/zsap}
# shellcheck source=benches/fio.sh
source "$(dirname "$0")/fio.sh"
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

run() { # WHERE KIND SIZE DEPTH JOBS BYTES
    local where=$1 place
    if [ "$2" = cold ]; then
        set -- "$where" "${@:3}"
        sync
        echo 3 >/proc/sys/vm/drop_caches
        [ "$where" = plain ] && where=direct
    fi
    case $where in
    plain) place=(--ioengine=io_uring "--filename=$work/plain.raw") ;;
    calls) place=(--ioengine=psync "--filename=$work/plain.raw") ;;
    direct) place=(--ioengine=io_uring --direct=1 "--filename=$work/plain.raw") ;;
    *) place=(--ioengine=nbd "--uri=nbd+unix:///$where?socket=$work/$where.sock") ;;
    esac
    speed "${place[@]}" --rw="$2" --bs="$3" --iodepth="$4" --numjobs="$5" --io_size="$6" --size="${mib}m"
}

declare -A seen
cases=(
    "read 1m 4 1 ${mib}m" "write 1m 4 1 ${mib}m" "randread 4k 16 1 256m" "randwrite 4k 16 1 256m"
    "randread 4k 16 2 256m" "read 1m 4 2 ${mib}m"
)
cold=()
[ -w /proc/sys/vm/drop_caches ] && cold=("cold read 1m 4 1 ${mib}m" "cold randread 4k 16 1 32m")
# The cold ones come last, so that every other one finds its file in memory.
for case in "${cases[@]}" "${cold[@]}"; do
    for _ in $(seq "$rounds"); do
        # shellcheck disable=SC2086
        calls=$([[ $case == cold* ]] && echo 0 || run calls $case)
        for where in plain one.vhdx one.vhd "$below"; do
            # shellcheck disable=SC2086
            found=$(run "$where" $case)
            [ "$where" != plain ] || found=$(printf '%s\n' "$found" "$calls" | sort -g | tail -1)
            seen["$case|$where"]+="$found "
        done
    done
done
for case in "${cases[@]}" "${cold[@]}"; do
    for where in plain one.vhdx one.vhd "$below"; do
        echo "$case|$where|${seen["$case|$where"]}|${seen["$case|plain"]}"
    done
done | ratios
for pid in "${servers[@]}"; do grep VmHWM "/proc/$pid/status"; done
