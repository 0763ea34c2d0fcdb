"""Runs exported graph models on CPUs: numpy arrays in, numpy arrays out.

    program = lathe.compile("grain.onnx")
    outputs = program.lane().run({"board": board})

docs/python.md is the guide; errors are lathe.Error, with the same sentences as everywhere in Mellow Lathe.
"""

from . import _lathe


class Error(RuntimeError):
    """What went wrong, in a sentence that names the file, node or argument.

    category: "format", "unsupported", "shape", "type", "value", "resource", "cancelled" or "internal".
    faults: all that were found, each (category, where, what, fatal); the first is what the message says.
    """

    category = "internal"
    faults = ()


_lathe._use_error(Error)

from ._lathe import (  # noqa: E402
    Comparison,
    Edition,
    Graph,
    Lane,
    Port,
    Program,
    SavedState,
    Step,
    StepTime,
    Stop,
    __version__,
    compare,
    compile,
    evaluate,
    load,
    load_program,
    machine,
)

__all__ = [
    "Comparison", "Edition", "Error", "Graph", "Lane", "Port", "Program", "SavedState", "Step", "StepTime", "Stop",
    "__version__", "compare", "compile", "evaluate", "load", "load_program", "machine",
]
for _name in __all__:
    if isinstance(globals()[_name], type):
        globals()[_name].__module__ = "lathe"
del _name
