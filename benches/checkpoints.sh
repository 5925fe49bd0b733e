#!/usr/bin/env bash
# What a checkpoint takes, whatever the disks hold: a machine with two disks of 64 TiB gets 100 checkpoints, which are then
# listed; another one gets 20 while it is served, and a client writes. Every time is that of the whole command, beside that of as many small files written and made durable.
set -euo pipefail
cd "$(dirname "$0")/.."
cargo build --release --quiet
work=$(mktemp -d "${1:-/tmp}/checkpoints.XXXX")
trap 'chmod -R u+w "$work"; rm -rf "$work"' EXIT
zsap=$PWD/target/release/zsap
cd "$work"
"$zsap" -q grove new big --machine big
for disk in a b; do
    "$zsap" -q make "big/$disk.vhdx" 64T 2>/dev/null
    "$zsap" -q grove add big "big/$disk.vhdx" 2>/dev/null
done
python3 - "$zsap" <<'PYTHON'
import json, os, resource, statistics, subprocess, sys, time

zsap = sys.argv[1]

def timed(*words):
    began = time.monotonic()
    subprocess.run([zsap, "-q", *words], check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    return (time.monotonic() - began) * 1000

def plain():
    """Thirty small files that appear under their names, durable, as a checkpoint makes them."""
    began = time.monotonic()
    for number in range(30):
        file = os.open("file.new", os.O_CREAT | os.O_RDWR | os.O_TRUNC)
        os.write(file, b"x" * 4096)
        os.fsync(file)
        os.close(file)
        os.rename("file.new", "file")
        folder = os.open(".", os.O_RDONLY)
        os.fsync(folder)
        os.close(folder)
    return (time.monotonic() - began) * 1000

takes, plains = [], []
for number in range(100):
    takes.append(timed("checkpoint", "take", "big", f"c{number}"))
    if number % 5 == 0:
        plains.append(plain())
lists = [timed("checkpoint", "list", "big") for _ in range(15)]
told = lambda name, times: print(f"{name:44} {statistics.median(times):7.1f} ms  ({min(times):.1f} to {max(times):.1f})")
told("30 small files, durable", plains)
told("checkpoint take, chains up to 16 layers", takes[:16])
told("checkpoint take, chains of 85 to 100 layers", takes[85:])
told("checkpoint list, 100 checkpoints", lists)
print(f"memory {resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024:.1f} MiB at most")

def wait_for(path):
    while not os.path.exists(path):
        time.sleep(0.01)

subprocess.run([zsap, "-q", "grove", "new", "run", "--machine", "run"], check=True)
for disk in "ab":
    subprocess.run([zsap, "-q", "make", f"run/{disk}.vhdx", "64T"], check=True, stderr=subprocess.DEVNULL)
    subprocess.run([zsap, "-q", "grove", "add", "run", f"run/{disk}.vhdx"], check=True, stderr=subprocess.DEVNULL)
server = subprocess.Popen(
    [zsap, "serve", "run", "--all-disks", "--writable", "--socket", "run.sock"],
    stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
wait_for("run.sock")
fio = subprocess.Popen(
    ["fio", "--name=a", "--ioengine=nbd", "--rw=randwrite", "--bs=4k", "--iodepth=16", "--size=1g", "--fsync=64",
     "--time_based=1", "--runtime=20", f"--uri=nbd+unix:///a?socket={os.getcwd()}/run.sock"],
    stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
time.sleep(1)
pauses, whole = [], []
for number in range(20):
    began = time.monotonic()
    answer = subprocess.run([zsap, "--json", "checkpoint", "take", "run", f"c{number}"], check=True, capture_output=True)
    whole.append((time.monotonic() - began) * 1000)
    pauses.append(json.loads(answer.stdout)["paused_milliseconds"])
fio.wait()
server.terminate()
server.wait()
told("checkpoint take, served and written to", whole)
told("of that requests waited", pauses)
PYTHON
