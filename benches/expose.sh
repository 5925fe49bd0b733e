#!/usr/bin/env bash
# An exposed disk against a plain raw file of the same content, both through a loop device with direct I/O, with the same
# requests, sizes and depth by the same program, in turn; writes with the final sync. As root; needs fio, FUSE and loop
# devices.
# Usage: benches/expose.sh FOLDER MIB ROUNDS [zsap]
set -euo pipefail
folder=$1 mib=$2 rounds=$3 zsap=${4:-target/release/zsap}
# shellcheck source=benches/fio.sh
source "$(dirname "$0")/fio.sh"
work=$(mktemp -d "$folder/expose.XXXX")
zsap=$(realpath "$zsap")
devices=()
export XDG_RUNTIME_DIR=$work/run
clean() {
    for device in "${devices[@]}"; do losetup -d "$device"; done
    sleep 0.5
    for shown in "$work"/*.d; do "$zsap" -q detach "$shown" || true; done
    rm -rf "$work"
}
trap clean EXIT
cd "$work"
mkdir run

dd if=/dev/urandom of=plain.raw bs=1M count="$mib" status=none
declare -A at
for format in vhdx vhd; do
    "$zsap" -q copy plain.raw "one.$format"
    mkdir "one.$format.d"
    "$zsap" -q expose "one.$format" "one.$format.d" --writable --background
    at[one.$format]=$(losetup --find --show --direct-io=on "one.$format.d/disk.raw")
    devices+=("${at[one.$format]}")
done
at[plain]=$(losetup --find --show --direct-io=on plain.raw)
devices+=("${at[plain]}")

run() { # DEVICE KIND SIZE DEPTH BYTES
    speed --ioengine=io_uring --direct=1 "--filename=$1" --rw="$2" --bs="$3" --iodepth="$4" --io_size="$5" --size="${mib}m"
}

declare -A seen
cases=("read 1m 4 ${mib}m" "write 1m 4 ${mib}m" "randread 4k 16 128m" "randwrite 4k 16 128m")
for case in "${cases[@]}"; do
    for _ in $(seq "$rounds"); do
        for where in plain one.vhdx one.vhd; do
            # shellcheck disable=SC2086
            seen["$case|$where"]+="$(run "${at[$where]}" $case) "
        done
    done
done
for case in "${cases[@]}"; do
    for where in plain one.vhdx one.vhd; do
        echo "$case|$where|${seen["$case|$where"]}|${seen["$case|plain"]}"
    done
done | ratios
for pid in $(pgrep -f "zsap.*expose one"); do grep VmHWM "/proc/$pid/status"; done
