#!/usr/bin/env bash
# What the safety of families costs: derive, show, tree of 1,000 images and merge, against another build of the command, in turn.
#
#   benches/families.sh OTHER-ZSAP [FOLDER] [RUNS]
#
# Prints medians, ranges and the median of the ratios, pair by pair.
source "$(dirname "$0")/timing.sh"
other=$(realpath "$1") runs=${3:-15}
begin "${2:-.}"

"$zsap" -q make base.vhdx 64T 2>/dev/null
"$zsap" -q derive base.vhdx child.vhdx 2>/dev/null
mkdir many few
(cd many && "$zsap" -q make root.vhdx 1T 2>/dev/null && seq -f 'image-%g.vhdx' 999 | xargs "$zsap" -q derive root.vhdx 2>/dev/null)
head -c 64M /dev/urandom >data

# pair NAME PREPARE COMMAND...: both builds in turn, each after the same preparation; `ZSAP` stands for the command.
pair() {
    local name=$1 prepare=$2 run build start end own=() theirs=()
    shift 2
    for ((run = 0; run <= runs; run++)); do
        for build in "$zsap" "$other"; do
            eval "$prepare"
            start=$(date +%s%N)
            "${@/#ZSAP/$build}" >/dev/null 2>&1
            end=$(date +%s%N)
            # The first round only warms up.
            ((run == 0)) || if [ "$build" = "$zsap" ]; then own+=($((end - start))); else theirs+=($((end - start))); fi
        done
    done
    paste <(printf '%s\n' "${own[@]}") <(printf '%s\n' "${theirs[@]}") | awk -v n="$name" '
        { a[NR] = $1 / 1e6; b[NR] = $2 / 1e6; r[NR] = $1 / $2 }
        function sorted(v, m,   i, j, t) { for (i = 1; i <= m; i++) for (j = i + 1; j <= m; j++) if (v[j] < v[i]) { t = v[i]; v[i] = v[j]; v[j] = t } }
        END { sorted(a, NR); sorted(b, NR); sorted(r, NR); m = int((NR + 1) / 2)
              printf "%-28s %7.1f ms (%.1f to %.1f)   before %7.1f ms (%.1f to %.1f)   ratio %.2f\n", n, a[m], a[1], a[NR], b[m], b[1], b[NR], r[m] }'
}
fresh='rm -rf few/*; cp base.vhdx few; (cd few && chmod u+w base.vhdx)'
pair 'derive' "$fresh" ZSAP derive few/base.vhdx few/new.vhdx
pair 'show' true ZSAP show child.vhdx
pair 'tree of the folder' true ZSAP tree .
pair 'tree of 1,000 images' true ZSAP tree many
pair 'derive beside 1,000 images' 'rm -f many/new.vhdx many/root.vhdx.zsap.json' ZSAP derive many/root.vhdx many/new.vhdx
layers='rm -rf few/*; (cd few && "$build" -q make base.vhdx 1T && "$build" -q derive base.vhdx now.vhdx &&
    "$build" -q bytes write now.vhdx --at 1G <../data) 2>/dev/null; sync -f .'
pair 'merge of 64 MiB' "$layers" ZSAP merge few/now.vhdx
small='rm -rf few/*; (cd few && "$build" -q make base.vhdx 1T && "$build" -q derive base.vhdx now.vhdx) 2>/dev/null; sync -f .'
pair 'merge of nothing' "$small" ZSAP merge few/now.vhdx
