"""Writes ONNX files by hand: the protobuf wire format needs only varints and length-delimited
fields, so the demo generators depend on numpy alone. Field numbers are those of the standard's schema."""
import struct
import numpy as np

DTYPES = {"float32": 1, "uint8": 2, "int8": 3, "uint16": 4, "int16": 5, "int32": 6, "int64": 7, "bool": 9,
          "float16": 10, "float64": 11, "uint32": 12, "uint64": 13, "complex64": 14, "complex128": 15, "bfloat16": 16,
          "float8e4m3fn": 17, "float8e4m3fnuz": 18, "float8e5m2": 19, "float8e5m2fnuz": 20, "uint4": 21, "int4": 22, "float4e2m1": 23}
STRING = 8


class Raw:
    """A tensor of a dtype that numpy does not have: its packed bytes."""

    def __init__(self, dtype, shape, data):
        self.dtype, self.shape, self.data = dtype, tuple(shape), bytes(data)


class Graph(bytes):
    """A serialised graph, as an attribute."""


class Type(bytes):
    """A serialised type, as an attribute."""


class Reference(str):
    """An attribute that refers to one of the function it stands in."""


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


def dtype_number(dtype):
    return STRING if str(dtype).startswith(("<U", "|S", "object", "string")) else DTYPES[str(dtype)]


def tensor(array, name=""):
    if isinstance(array, Raw):
        out = b"".join(integer(1, d) for d in array.shape) + integer(2, DTYPES[array.dtype])
        return out + (chunk(8, name) if name else b"") + chunk(9, array.data)
    array = np.asarray(array)
    if dtype_number(array.dtype) == STRING:
        out = b"".join(integer(1, d) for d in array.shape) + integer(2, STRING) + (chunk(8, name) if name else b"")
        return out + b"".join(chunk(6, str(s)) for s in array.reshape(-1))
    out = b"".join(integer(1, d) for d in array.shape) + integer(2, DTYPES[str(array.dtype)])
    if name:
        out += chunk(8, name)
    return out + chunk(9, np.asarray(array, order="C").tobytes())


def sequence(arrays, name=""):
    return (chunk(1, name) if name else b"") + integer(2, 1) + b"".join(chunk(3, tensor(a)) for a in arrays)


def optional(array, name=""):
    out = chunk(1, name) if name else b""
    return out if array is None else out + integer(2, 1) + chunk(3, tensor(array))


def attribute(name, value):
    out = chunk(1, name)
    if isinstance(value, Graph):
        return out + chunk(6, value) + integer(20, 5)
    if isinstance(value, Type):
        return out + chunk(14, value) + integer(20, 13)
    if isinstance(value, tuple) and len(value) == 2 and isinstance(value[0], Reference):  # (name, kind)
        return out + chunk(21, str(value[0])) + integer(20, value[1])
    if isinstance(value, Raw):
        return out + chunk(5, tensor(value)) + integer(20, 4)
    if isinstance(value, np.ndarray):
        return out + chunk(5, tensor(value)) + integer(20, 4)
    if isinstance(value, bool) or isinstance(value, (int, np.integer)):
        return out + integer(3, value) + integer(20, 2)
    if isinstance(value, float):
        return out + varint(2 << 3 | 5) + struct.pack("<f", value) + integer(20, 1)
    if isinstance(value, str):
        return out + chunk(4, value) + integer(20, 3)
    if len(value) and all(isinstance(v, str) for v in value):
        return out + b"".join(chunk(9, v) for v in value) + integer(20, 8)
    if all(isinstance(v, (int, np.integer)) for v in value):
        return out + b"".join(integer(8, v) for v in value) + integer(20, 7)
    return out + b"".join(varint(7 << 3 | 5) + struct.pack("<f", v) for v in value) + integer(20, 6)


def node(op, inputs, outputs, name="", domain="", **attributes):
    out = b"".join(chunk(1, i) for i in inputs) + b"".join(chunk(2, o) for o in outputs)
    out += (chunk(3, name) if name else b"") + chunk(4, op)
    out += b"".join(chunk(5, attribute(k, v)) for k, v in attributes.items())
    return out + (chunk(7, domain) if domain else b"")


def tensor_type(dtype, dims=None):
    """dims: integers, strings for symbolic dims, None for open ones; None: unknown rank."""
    out = integer(1, dtype_number(dtype))
    if dims is not None:
        out += chunk(2, b"".join(chunk(1, chunk(2, d) if isinstance(d, str) else b"" if d is None else integer(1, d)) for d in dims))
    return Type(chunk(1, out))


def sequence_type(inner):
    return Type(chunk(4, chunk(1, inner)))


def optional_type(inner):
    return Type(chunk(9, chunk(1, inner)))


def value(name, dtype, dims=None):
    """dtype: a name and dims, or a Type."""
    return chunk(1, name) + chunk(2, dtype if isinstance(dtype, Type) else tensor_type(dtype, dims))


def graph(name, nodes, inputs, outputs, initializers=None, doc=""):
    out = b"".join(chunk(1, n) for n in nodes) + chunk(2, name)
    out += b"".join(chunk(5, tensor(a, n)) for n, a in (initializers or {}).items())
    out += (chunk(10, doc) if doc else b"")
    return Graph(out + b"".join(chunk(11, i) for i in inputs) + b"".join(chunk(12, o) for o in outputs))


def opset_import(domain, version):
    return chunk(1, domain) + integer(2, version)


def function(domain, name, inputs, outputs, nodes, opsets, attributes=(), defaults=None):
    """opsets: dict domain -> version. attributes: names a call must set; defaults: name -> value."""
    out = chunk(1, name) + b"".join(chunk(4, i) for i in inputs) + b"".join(chunk(5, o) for o in outputs)
    out += b"".join(chunk(6, a) for a in attributes) + b"".join(chunk(7, n) for n in nodes)
    out += b"".join(chunk(9, opset_import(d, v)) for d, v in opsets.items()) + chunk(10, domain)
    return out + b"".join(chunk(11, attribute(k, v)) for k, v in (defaults or {}).items())


def model(name, nodes, inputs, outputs, initializers, opset=17, metadata=None, doc="", domains=None, functions=()):
    """domains: further imports, dict domain -> version."""
    out = integer(1, 8) + chunk(2, "mellow-lathe-demo") + chunk(7, graph(name, nodes, inputs, outputs, initializers, doc))
    out += chunk(8, opset_import("", opset)) + b"".join(chunk(8, opset_import(d, v)) for d, v in (domains or {}).items())
    out += b"".join(chunk(25, f) for f in functions)
    for k, v in (metadata or {}).items():
        out += chunk(14, chunk(1, k) + chunk(2, v))
    return out
