"""Shared by the scripts that write cases: a model of one node (or a whole one) with its inputs and the outputs expected of it."""
import os
import sys

import numpy as np

sys.path.insert(0, os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "..", "demo", "make"))
import onnx_wire as wire  # noqa: E402

rng = np.random.default_rng(11)
count = 0


def dtype_name(array):
    return "string" if wire.dtype_number(array.dtype) == wire.STRING else str(array.dtype)


def case(name, op, inputs, expected, opset, constants=None, domain="", version=1, **attributes):
    """domain, version: of the op, beside the default domain at `opset`. inputs: dict name -> array (None: left out). constants: names among them that are stored as initializers."""
    global count
    constants = constants or []
    folder = os.path.join(sys.argv[1], name)
    os.makedirs(os.path.join(folder, "test_data_set_0"))  # fails when a name is used twice
    expected = expected if isinstance(expected, (list, tuple)) else [expected]
    outs = [f"y{i}" for i in range(len(expected))]
    given = {k: v for k, v in inputs.items() if v is not None}
    fed = [k for k in given if k not in constants]
    nodes = [wire.node(op, [k if v is not None else "" for k, v in inputs.items()], outs, domain=domain, **attributes)]
    model = wire.model(name, nodes, [wire.value(k, dtype_name(given[k]), given[k].shape) for k in fed],
                       [wire.value(o, dtype_name(e), e.shape) for o, e in zip(outs, expected)],
                       {k: given[k] for k in constants}, opset=opset, domains={domain: version} if domain else None)
    with open(os.path.join(folder, "model.onnx"), "wb") as f:
        f.write(model)
    for kind, arrays in (("input", [(k, given[k]) for k in fed]), ("output", list(zip(outs, expected)))):
        for i, (k, array) in enumerate(arrays):
            with open(os.path.join(folder, "test_data_set_0", f"{kind}_{i}.pb"), "wb") as f:
                f.write(wire.tensor(array, k))
    count += 1


def whole(name, model, inputs, outputs):
    """A model with inputs and expected outputs: lists of (name, array or serialised value)."""
    global count
    folder = os.path.join(sys.argv[1], name)
    os.makedirs(os.path.join(folder, "test_data_set_0"))
    with open(os.path.join(folder, "model.onnx"), "wb") as f:
        f.write(model)
    for kind, values in (("input", inputs), ("output", outputs)):
        for i, (k, v) in enumerate(values):
            with open(os.path.join(folder, "test_data_set_0", f"{kind}_{i}.pb"), "wb") as f:
                f.write(v if isinstance(v, bytes) else wire.tensor(v, k))
    count += 1


def f32(*shape, low=-2.0, high=2.0):
    return rng.uniform(low, high, shape).astype(np.float32)


def both(name, op, inputs, expected, opset, constants, **attributes):
    """Once with the parameters as constants (shapes known while compiling), once as inputs (known at run time)."""
    case(name + "_constant", op, inputs, expected, opset, constants, **attributes)
    case(name + "_fed", op, inputs, expected, opset, [], **attributes)
