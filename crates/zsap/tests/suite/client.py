"""What a real client library makes of a server: every command, capabilities, errors, and several connections at once."""
import nbd
import sys

uri, mode = sys.argv[1], sys.argv[2]
SIZE = 256 << 20


def connect(**options):
    handle = nbd.NBD()
    handle.set_full_info(True)
    for key, value in options.items():
        getattr(handle, key)(value)
    for context in (nbd.CONTEXT_BASE_ALLOCATION, "x-zsap:layer"):
        if options.get("set_request_structured_replies", True):
            handle.add_meta_context(context)
    handle.connect_uri(uri)
    return handle


def refused(act, number):
    try:
        act()
    except nbd.Error as error:
        assert error.errnum == number, error
        return
    raise AssertionError("that was no error")


h = connect()
assert h.get_size() == SIZE, h.get_size()
assert h.get_protocol() == "newstyle-fixed"
assert h.can_multi_conn() and h.can_flush() and h.can_cache() and h.can_df()
assert h.get_structured_replies_negotiated()
assert (h.get_block_size(nbd.SIZE_MINIMUM), h.get_block_size(nbd.SIZE_MAXIMUM)) == (512, 32 << 20)
assert "256 MiB, " in h.get_export_description(), h.get_export_description()

if mode == "read":
    assert h.is_read_only()
    # The library would not send it; the server refuses all the same.
    h.set_strict_mode(0)
    refused(lambda: h.pwrite(bytes(512), 0), 1)
    assert h.pread(22, 0) if h.get_strict_mode() & nbd.STRICT_ALIGN else True
    print("done")
    sys.exit(0)

assert h.can_fua() and h.can_trim() and h.can_zero() and h.can_fast_zero() and not h.is_read_only()
h.pwrite(b"Drosera " * 512, 0)
h.pwrite(b"Carex   " * 128, 1 << 20, nbd.CMD_FLAG_FUA)
h.flush()
assert h.pread(4096, 0) == b"Drosera " * 512
large = bytes(range(256)) * (16 << 12)
h.pwrite(large, 64 << 20)
assert h.pread(len(large), 64 << 20) == large
seen = []
h.pread_structured(4096, 0, lambda data, offset, status, error: seen.append((offset, status, len(data))))
assert seen and seen[0][0] == 0
h.pread_structured(1 << 20, 64 << 20, lambda *part: None, nbd.CMD_FLAG_DF)
h.zero(1 << 20, 64 << 20)
h.zero(1 << 20, 65 << 20, nbd.CMD_FLAG_NO_HOLE)
h.zero(1 << 20, 66 << 20, nbd.CMD_FLAG_FAST_ZERO)
refused(lambda: h.zero(4096, 0, nbd.CMD_FLAG_FAST_ZERO | nbd.CMD_FLAG_NO_HOLE), 95)
assert h.pread(3 << 20, 64 << 20) == bytes(3 << 20)
h.trim(4 << 20, 76 << 20)
h.cache(1 << 20, 0)
contexts = {}
h.block_status(SIZE, 0, lambda name, offset, entries, error: contexts.setdefault(name, list(entries)))
assert sum(contexts["base:allocation"][::2]) == SIZE and contexts["base:allocation"][1] == 0
assert contexts["x-zsap:layer"][1] == 1
one = []
h.block_status(SIZE - (32 << 20), 32 << 20, lambda name, offset, entries, error: one.append(len(entries)), nbd.CMD_FLAG_REQ_ONE)
assert one == [2, 2], one
h.set_strict_mode(0)
refused(lambda: h.pread(512, SIZE), 22)
refused(lambda: h.pwrite(bytes(512), SIZE), 28)
refused(lambda: h.pread(512, 1), 22)

# What one connection flushed, the others see; and many requests of each are under way at once.
handles = [connect() for _ in range(4)]
buffers = []
for number, handle in enumerate(handles):
    for step in range(16):
        data = nbd.Buffer.from_bytearray(bytearray([16 * number + step]) * 65536)
        buffers.append(data)
        handle.aio_pwrite(data, (128 << 20) + (16 * number + step) * 65536)
for handle in handles:
    while handle.aio_in_flight():
        handle.poll(-1)
handles[0].flush()
for number in range(64):
    assert handles[3 - number % 4].pread(65536, (128 << 20) + number * 65536) == bytes([number]) * 65536

plain = connect(set_request_structured_replies=False)
assert plain.pread(4096, 0) == b"Drosera " * 512
for handle in handles + [plain]:
    handle.shutdown()

listed = []
opts = nbd.NBD()
opts.set_opt_mode(True)
opts.connect_uri(uri)
opts.opt_list(lambda name, description: listed.append((name, description)))
assert len(listed) == 1, listed
opts.set_export_name("fen")
refused(opts.opt_go, 2)
opts.opt_info() if False else opts.opt_abort()
h.shutdown()
print("done")
