# For other scripts to source: jobs of fio, and how they compare with those on a plain file.

# The bytes a second of a job, by fio's own measure, which ends with the sync.
speed() { # ARGUMENTS OF FIO
    fio --name=x "$@" --thread --end_fsync=1 --randrepeat=0 --norandommap --group_reporting --output-format=json 2>/dev/null |
        python3 -c 'import json,sys; text=sys.stdin.read(); job=json.loads(text[text.index("{"):])["jobs"][0]; s=sum(job[k]["io_bytes"] for k in ("read","write")); t=max(job[k]["runtime"] for k in ("read","write")) or 1; print(s/t*1000)'
}

# A line for each line of CASE|WHERE|SPEEDS|SPEEDS OF PLAIN: the medians, and between what they lie.
ratios() {
    python3 -c '
import statistics, sys
for line in sys.stdin:
    case, where, own, plain = line.rstrip("\n").split("|")
    own, plain = ([float(x) / 2**20 for x in text.split()] for text in (own, plain))
    ratios = [o / p for o, p in zip(own, plain)]
    print(f"{case:32} {where:14} {statistics.median(own):7.0f} MiB/s ({min(own):.0f} to {max(own):.0f})"
          f"  {statistics.median(ratios):.2f} of plain ({min(ratios):.2f} to {max(ratios):.2f})")
'
}
