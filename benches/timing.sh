# Timing for the scripts beside it, which source it: commands run in turn, medians and ranges over the rounds.
set -euo pipefail

# Builds the command, and goes to a new folder in $1 that is removed at the end.
begin() {
    local folder
    folder=$(realpath "$1")
    cd "$(dirname "${BASH_SOURCE[0]}")/.."
    cargo build --release --quiet
    zsap=$PWD/target/release/zsap
    work=$(mktemp -d "$folder/zsap-bench.XXXXXX")
    trap 'rm -rf "$work"' EXIT
    cd "$work"
}

declare -A times

# once NAME COMMAND...: one timed run into a fresh `target.*`.
once() {
    local name=$1 start end
    shift
    rm -f target.*
    # The host discards the space of the removed file for a while after.
    sync -f . && sleep 1
    start=$(date +%s%N)
    "$@"
    end=$(date +%s%N)
    times[$name]+="$(((end - start) / 1000)) "
}

# In microseconds, of the numbers on standard input.
median() { tr ' ' '\n' | grep . | sort -n | awk '{v[NR]=$1} END {print v[int((NR+1)/2)]}'; }
range() { tr ' ' '\n' | grep . | sort -n | awk 'NR==1{a=$1} {b=$1} END {printf "%.3f to %.3f s", a/1e6, b/1e6}'; }
