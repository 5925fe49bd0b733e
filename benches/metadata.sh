#!/usr/bin/env bash
# Time and memory of work on metadata, for disks of 64 TiB: make, derive, show, tree, check.
#
#   benches/metadata.sh [FOLDER] [RUNS] [OTHER-ZSAP]
#
# Prints the median and the largest wall time of the whole process, and its largest memory; with another build of the command,
# which is run in turn, also its figures and the median of the ratios, pair by pair. Needs GNU time.
set -euo pipefail
folder=$(realpath "${1:-.}") runs=${2:-15} other=${3:+$(realpath "$3")}
cd "$(dirname "$0")/.."
cargo build --release --quiet
zsap=$PWD/target/release/zsap
work=$(mktemp -d "$folder/zsap-bench.XXXXXX")
trap 'chmod -R u+w "$work"; rm -rf "$work"' EXIT
cd "$work"

"$zsap" -q make big.vhdx 64T 2>/dev/null
"$zsap" -q derive big.vhdx child.vhdx 2>/dev/null
"$zsap" -q make small-blocks.vhdx 64T --block-size 1M 2>/dev/null

# LABEL COMMAND...: `ZSAP` stands for the command.
measure() {
    local label=$1 run build start end
    shift
    rm -f figures
    for ((run = 0; run < runs; run++)); do
        for build in "$zsap" $other; do
            rm -f new.vhdx big.vhdx.zsap.json
            start=$(date +%s%N)
            /usr/bin/time -o memory -f %M "${@/#ZSAP/$build}" >/dev/null 2>&1
            end=$(date +%s%N)
            printf '%s %s ' $(((end - start) / 1000)) "$(cat memory)"
        done
        echo
    done >figures
    awk -v l="$label" '
        function median(v, n,   i, j, t) {
            for (i = 1; i <= n; i++) for (j = i + 1; j <= n; j++) if (v[j] < v[i]) { t = v[i]; v[i] = v[j]; v[j] = t }
            return v[int((n + 1) / 2)]
        }
        { a[NR] = $1; b[NR] = $3; r[NR] = $3 ? $1 / $3 : 0; if ($2 > m) m = $2; if ($4 > o) o = $4 }
        END {
            x = median(a, NR)
            printf "%-32s %5.1f ms (largest %.1f), %.1f MiB", l, x / 1000, a[NR] / 1000, m / 1024
            if (b[1]) { x = median(b, NR); printf "   before %5.1f ms (largest %.1f), %.1f MiB   ratio %.2f", x / 1000, b[NR] / 1000, o / 1024, median(r, NR) }
            print ""
        }' figures
}
measure 'a process and nothing else' true
measure 'make, 64 TiB' ZSAP make new.vhdx 64T
measure 'make, 64 TiB, blocks of 1 MiB' ZSAP make new.vhdx 64T --block-size 1M
measure 'derive from it' ZSAP derive big.vhdx new.vhdx
measure 'show the child' ZSAP show child.vhdx
measure 'show one of 1 MiB blocks' ZSAP show small-blocks.vhdx
measure 'tree of the folder' ZSAP tree .
measure 'check the child and its base' ZSAP check child.vhdx
