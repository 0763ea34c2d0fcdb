"""Writes ONNX files by hand: the protobuf wire format needs only varints and length-delimited
fields, so the demo generators depend on numpy alone. Field numbers are those of the standard's schema."""
import struct
import numpy as np

DTYPES = {"float32": 1, "uint8": 2, "int8": 3, "uint16": 4, "int16": 5, "int32": 6, "int64": 7, "bool": 9,
          "float16": 10, "float64": 11, "uint32": 12, "uint64": 13}


def varint(n):
    n &= (1 << 64) - 1
    out = bytearray()
    while True:
        low, n = n & 0x7F, n >> 7
        out.append(low | (0x80 if n else 0))
        if not n:
            return bytes(out)


def integer(field, value):
    return varint(field << 3) + varint(int(value))


def chunk(field, payload):
    if isinstance(payload, str):
        payload = payload.encode()
    return varint(field << 3 | 2) + varint(len(payload)) + payload


def tensor(array, name=""):
    array = np.asarray(array)
    out = b"".join(integer(1, d) for d in array.shape) + integer(2, DTYPES[str(array.dtype)])
    if name:
        out += chunk(8, name)
    return out + chunk(9, np.asarray(array, order="C").tobytes())


def attribute(name, value):
    out = chunk(1, name)
    if isinstance(value, np.ndarray):
        return out + chunk(5, tensor(value)) + integer(20, 4)
    if isinstance(value, bool) or isinstance(value, (int, np.integer)):
        return out + integer(3, value) + integer(20, 2)
    if isinstance(value, float):
        return out + varint(2 << 3 | 5) + struct.pack("<f", value) + integer(20, 1)
    if isinstance(value, str):
        return out + chunk(4, value) + integer(20, 3)
    if all(isinstance(v, (int, np.integer)) for v in value):
        return out + b"".join(integer(8, v) for v in value) + integer(20, 7)
    return out + b"".join(varint(7 << 3 | 5) + struct.pack("<f", v) for v in value) + integer(20, 6)


def node(op, inputs, outputs, name="", domain="", **attributes):
    out = b"".join(chunk(1, i) for i in inputs) + b"".join(chunk(2, o) for o in outputs)
    out += (chunk(3, name) if name else b"") + chunk(4, op)
    out += b"".join(chunk(5, attribute(k, v)) for k, v in attributes.items())
    return out + (chunk(7, domain) if domain else b"")


def value(name, dtype, dims):
    """dims: integers, or strings for symbolic dims."""
    shape = b"".join(chunk(1, chunk(2, d) if isinstance(d, str) else integer(1, d)) for d in dims)
    return chunk(1, name) + chunk(2, chunk(1, integer(1, DTYPES[dtype]) + chunk(2, shape)))


def model(name, nodes, inputs, outputs, initializers, opset=17, metadata=None, doc=""):
    graph = b"".join(chunk(1, n) for n in nodes) + chunk(2, name)
    graph += b"".join(chunk(5, tensor(a, n)) for n, a in initializers.items())
    graph += (chunk(10, doc) if doc else b"")
    graph += b"".join(chunk(11, i) for i in inputs) + b"".join(chunk(12, o) for o in outputs)
    out = integer(1, 8) + chunk(2, "mellow-lathe-demo") + chunk(7, graph) + chunk(8, chunk(1, "") + integer(2, opset))
    for k, v in (metadata or {}).items():
        out += chunk(14, chunk(1, k) + chunk(2, v))
    return out
