#!/usr/bin/env bash
# Time and memory of a check of a folder of 1,000 images of one family, and of an image of 64 TiB.
#
#   benches/check.sh [FOLDER] [RUNS]
#
# The plain figure is that of reading the first 4 MiB of each file with `head`, where its structures stand. Prints the median and the
# largest wall time of the whole process, and its largest memory. Needs GNU time.
set -euo pipefail
folder=$(realpath "${1:-.}") runs=${2:-7}
cd "$(dirname "$0")/.."
cargo build --release --quiet
zsap=$PWD/target/release/zsap
work=$(mktemp -d "$folder/zsap-bench.XXXXXX")
trap 'chmod -R u+w "$work"; rm -rf "$work"' EXIT
cd "$work"
mkdir many
"$zsap" -q make many/fen-base.vhdx 1T 2>/dev/null
head -c 64M /dev/urandom | "$zsap" -q bytes write many/fen-base.vhdx --at 0
# shellcheck disable=SC2046
"$zsap" -q derive many/fen-base.vhdx $(seq -f 'many/germination-%04g.vhdx' 999) 2>/dev/null
"$zsap" -q make big.vhdx 64T --block-size 1M 2>/dev/null
head -c 4M /dev/urandom | "$zsap" -q bytes write big.vhdx --at 63T

measure() { # LABEL COMMAND...
    local label=$1 run start end
    shift
    for ((run = 0; run < runs; run++)); do
        start=$(date +%s%N)
        /usr/bin/time -o memory -f %M "$@" >/dev/null 2>&1 || true
        end=$(date +%s%N)
        echo $(((end - start) / 1000000)) "$(cat memory)"
    done | sort -n | awk -v l="$label" '{ t[NR] = $1; if ($2 > m) m = $2 }
        END { printf "%-44s %6d ms (largest %d), %.1f MiB\n", l, t[int((NR + 1) / 2)], t[NR], m / 1024 }'
}
measure 'head of 1,000 files' bash -c 'for file in many/*.vhdx; do head -c 4M "$file"; done'
measure 'check of a folder of 1,000 images' "$zsap" check many
measure 'the same, all content' "$zsap" check many --data
measure 'check of an image of 64 TiB' "$zsap" check big.vhdx
measure 'repair --plan of it' "$zsap" repair big.vhdx --plan
