"""The Python module as its users meet it.

usage: test_python.py ROOT  (with the module on PYTHONPATH)
"""
import gc
import os
import pathlib
import signal
import sys
import tempfile
import threading
import time
import unittest

import numpy as np

import lathe

ROOT = pathlib.Path(sys.argv.pop(1))
sys.path.insert(0, str(ROOT / "demo" / "make"))
import onnx_wire as wire  # noqa: E402

GRAIN = ROOT / "demo" / "grain"


def identity(dtype, dims=("n", 3), op="Identity", **attributes):
    return wire.model("same", [wire.node(op, ["x"], ["y"], **attributes)], [wire.value("x", dtype, dims)], [wire.value("y", dtype, dims)], {},
                      opset=21)


def slow():
    """Some seconds of work, in many steps."""
    n = 384
    rng = np.random.default_rng(1)
    w = (rng.standard_normal((n, n)) / np.sqrt(n)).astype("float32")
    nodes, last = [], "x"
    for i in range(400):
        nodes += [wire.node("MatMul", [last, "w"], [f"p{i}"]), wire.node("Softmax", [f"p{i}"], [f"s{i}"])]
        last = f"s{i}"
    nodes.append(wire.node("Identity", [last], ["y"]))
    return wire.model("slow", nodes, [wire.value("x", "float32", (n * 8, n))], [wire.value("y", "float32", (n * 8, n))], {"w": w})


class Runs(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.inputs = dict(np.load(GRAIN / "reference_inputs.npz"))
        cls.wanted = np.load(GRAIN / "reference_outputs.npz")["species"]
        cls.program = lathe.compile(GRAIN / "grain.onnx", threads=2)

    def test_a_model_gives_its_reference_outputs(self):
        lane = self.program.lane()
        for inputs in (self.inputs, list(self.inputs.values()), self.inputs["image"]):
            outputs = lane.run(inputs)
            self.assertEqual(list(outputs), ["species"])
            self.assertTrue(lathe.compare(outputs["species"], self.wanted))
        plain = lathe.evaluate(str(GRAIN / "grain.onnx"), self.inputs)
        self.assertTrue(lathe.compare(plain["species"], self.wanted))

    def test_what_it_says_of_itself(self):
        self.assertEqual(self.program.inputs[0].name, "image")
        self.assertEqual(self.program.inputs[0].dtype, "f32")
        self.assertEqual(self.program.inputs[0].dims, ("batch", 3, 64, 64))
        self.assertEqual(self.program.threads, 2)
        self.assertIn(self.program.isa, lathe.machine()["isas"])
        self.assertIn("image -> species", repr(self.program))
        edition = self.program.describe([[1, 3, 64, 64]])
        self.assertGreater(edition.flops, 1e6)
        self.assertEqual(edition.plain, 0)
        self.assertTrue(any(step.kind == "convolution" for step in edition.steps))
        self.assertLess(len(edition.steps), len(lathe.load(GRAIN / "grain.onnx")))

    def test_results_are_the_lane_s_memory_and_stay(self):
        lane = self.program.lane()
        first = lane.run(self.inputs)["species"]
        self.assertFalse(first.flags.owndata)
        with self.assertRaises(ValueError):
            first[0, 0] = 1
        kept = first.copy()
        other = lane.run({"image": np.zeros_like(self.inputs["image"])})["species"]
        self.assertFalse(np.shares_memory(first, other))
        np.testing.assert_array_equal(first, kept)
        # Let go of, it is written again.
        place = other.__array_interface__["data"][0]
        del other
        gc.collect()
        again = lane.run(self.inputs)["species"]
        self.assertEqual(again.__array_interface__["data"][0], place)
        del lane
        np.testing.assert_array_equal(again, kept)

    def test_results_go_where_they_are_wanted(self):
        lane = self.program.lane()
        memory = np.zeros((4, 6), "float32")
        lane.bind_output("species", memory)
        self.assertIs(lane.run(self.inputs)["species"], memory)
        self.assertTrue(lathe.compare(memory, self.wanted))
        lane.bind_output("species", None)
        self.assertIsNot(lane.run(self.inputs)["species"], memory)
        for wrong in (np.zeros((6, 4), "float32").T, memory[:, ::2], [1]):
            with self.assertRaises(lathe.Error):
                lane.bind_output("species", wrong)

    def test_arrays_that_are_not_contiguous_are_copied(self):
        turned = np.asfortranarray(self.inputs["image"])
        self.assertTrue(lathe.compare(self.program.lane().run(turned)["species"], self.wanted))
        wide = np.repeat(self.inputs["image"], 2, axis=3)[..., ::2]
        self.assertTrue(lathe.compare(self.program.lane().run([wide])["species"], self.wanted))

    def test_a_program_is_saved_and_read_again(self):
        with tempfile.TemporaryDirectory() as folder:
            path = pathlib.Path(folder) / "grain.lathe"
            lathe.compile(GRAIN / "grain.onnx", threads=1, dims={"batch": 4}).save(path)
            self.assertTrue(lathe.compare(lathe.load_program(path).lane().run(self.inputs)["species"], self.wanted))
            graph = lathe.load(GRAIN / "grain.onnx")
            graph.save(pathlib.Path(folder) / "again.onnx")
            again = lathe.compile(pathlib.Path(folder) / "again.onnx")
            self.assertTrue(lathe.compare(again.lane().run(self.inputs)["species"], self.wanted))
            os.truncate(path, path.stat().st_size // 2)
            with self.assertRaises(lathe.Error) as caught:
                lathe.load_program(path)
            self.assertEqual(caught.exception.category, "format")
            self.assertIn("grain.lathe", str(caught.exception))

    def test_lanes_in_threads(self):
        def work(results):
            lane = self.program.lane(threads=1)
            for _ in range(20):
                results.append(bool(lathe.compare(lane.run(self.inputs)["species"], self.wanted)))

        results = []
        threads = [threading.Thread(target=work, args=(results,)) for _ in range(3)]
        for t in threads:
            t.start()
        for t in threads:
            t.join()
        self.assertEqual(results, [True] * 60)

    def test_states_stay_in_the_lane(self):
        program = lathe.compile(ROOT / "demo" / "notes" / "notes.onnx", states=True, threads=1)
        self.assertEqual(program.states["present.0.keys"], "past.0.keys")
        self.assertEqual([p.name for p in program.inputs], ["tokens"])
        lane = program.lane()
        tokens = np.array([[5, 9, 17, 3]])
        whole = lane.run(tokens)["scores"].copy()
        self.assertEqual(lane.positions, 4)
        saved = lane.save_state()
        last = lane.run([[[8]]])["scores"].copy()
        lane.rewind(1)
        np.testing.assert_array_equal(lane.run([[[8]]])["scores"], last)
        lane.restore_state(saved)
        self.assertEqual(saved.positions, 4)
        np.testing.assert_array_equal(lane.run([[[8]]])["scores"], last)
        lane.reset()
        self.assertEqual(lane.positions, 0)
        for i in range(4):
            part = lane.run(tokens[:, i:i + 1])["scores"]
            np.testing.assert_allclose(part[0, 0], whole[0, i], atol=2e-4)

    def test_times_of_steps(self):
        lane = self.program.lane()
        lane.time_steps()
        lane.run(self.inputs)
        times = lane.step_times()
        self.assertEqual(len(times), len(self.program.describe([[4, 3, 64, 64]]).steps))
        self.assertGreater(sum(t.seconds for t in times), 0)


class Types(unittest.TestCase):
    def test_every_type_that_numpy_has(self):
        for dtype in ("float32", "float64", "float16", "int8", "int16", "int32", "int64", "uint8", "uint16", "uint32", "uint64", "bool"):
            with self.subTest(dtype):
                x = (np.arange(6).reshape(2, 3) % 3).astype(dtype)
                y = lathe.compile(identity(dtype)).lane().run(x)["y"]
                self.assertEqual(y.dtype, x.dtype)
                np.testing.assert_array_equal(y, x)

    def test_types_that_numpy_lacks(self):
        x = np.array([[1.0, -2.5, 3.00390625]], "float32")
        y = lathe.compile(identity("bfloat16")).lane().run(x)["y"]
        self.assertEqual(y.dtype, np.float32)
        np.testing.assert_array_equal(y, [[1.0, -2.5, 3.0]])  # to the nearest, ties to even
        nan = lathe.compile(identity("bfloat16")).lane().run(np.array([[np.nan, np.inf, 0]], "float32"))["y"]
        self.assertTrue(np.isnan(nan[0, 0]) and np.isinf(nan[0, 1]))
        i4 = np.array([[-8, 7, 0], [1, -1, 3]], "int8")
        y = lathe.compile(identity("int4")).lane().run(i4)["y"]
        self.assertEqual(y.dtype, np.int8)
        np.testing.assert_array_equal(y, i4)
        u4 = np.array([[15, 7, 0]], "uint8")
        np.testing.assert_array_equal(lathe.compile(identity("uint4")).lane().run(u4)["y"], u4)
        with self.assertRaises(lathe.Error) as caught:
            lathe.compile(wire.model("f8", [wire.node("Cast", ["x"], ["y"], to=wire.DTYPES["float8e5m2"])], [wire.value("x", "float32", (2,))],
                                     [wire.value("y", "float8e5m2", (2,))], {}, opset=21)).lane().run(np.zeros(2, "float32"))
        self.assertIn("output 'y'", str(caught.exception))

    def test_text(self):
        for given in (np.array([["ab", "ö", ""]]), np.array([["ab", "ö", ""]], object), [["ab", "ö", ""]]):
            y = lathe.compile(identity("string")).lane().run([given])["y"]
            self.assertEqual(y.tolist(), [["ab", "ö", ""]])
        with self.assertRaises(lathe.Error):
            lathe.compile(identity("string")).lane().run([np.array([[1, None, 2]], object)])

    def test_numbers_and_lists_take_the_type_of_the_input(self):
        program = lathe.compile(identity("int32", ()))
        self.assertEqual(program.lane().run({"x": 7})["y"], 7)
        self.assertEqual(program.lane().run({"x": np.int32(7)})["y"].shape, ())
        self.assertEqual(program.lane().run({"x": np.array(7, "int32")})["y"].shape, ())
        y = lathe.compile(identity("float16")).lane().run({"x": [[1, 2, 3]]})["y"]
        self.assertEqual(y.dtype, np.float16)

    def test_no_elements(self):
        y = lathe.compile(identity("float32")).lane().run(np.zeros((0, 3), "float32"))["y"]
        self.assertEqual(y.shape, (0, 3))

    def test_lists_of_arrays_and_what_may_be_missing(self):
        of = wire.tensor_type("float32", ("n",))
        sequences = wire.model("all", [wire.node("ConcatFromSequence", ["s"], ["y"], axis=0)], [wire.value("s", wire.sequence_type(of))],
                               [wire.value("y", "float32", ("m",))], {})
        parts = [np.array([1, 2], "float32"), np.array([3], "float32")]
        np.testing.assert_array_equal(lathe.compile(sequences).lane().run({"s": parts})["y"], [1, 2, 3])
        split = wire.model("parts", [wire.node("SplitToSequence", ["x"], ["s"], axis=0)], [wire.value("x", "float32", (3,))],
                           [wire.value("s", wire.sequence_type(of))], {})
        made = lathe.compile(split).lane().run(np.array([1, 2, 3], "float32"))["s"]
        self.assertEqual([part.tolist() for part in made], [[1], [2], [3]])
        optional = wire.model("may", [wire.node("OptionalHasElement", ["o"], ["y"])], [wire.value("o", wire.optional_type(of))],
                              [wire.value("y", "bool", ())], {}, opset=18)
        self.assertTrue(lathe.compile(optional).lane().run({"o": parts[0]})["y"])
        self.assertFalse(lathe.compile(optional).lane().run({"o": None})["y"])


class Faults(unittest.TestCase):
    def fails(self, category, words, call):
        with self.assertRaises(lathe.Error) as caught:
            call()
        self.assertEqual(caught.exception.category, category)
        for word in words:
            self.assertIn(word, str(caught.exception))
        self.assertGreaterEqual(len(caught.exception.faults), 1)

    def test_sentences(self):
        lane = lathe.compile(identity("float32"), threads=1).lane()
        good = np.zeros((2, 3), "float32")
        self.fails("value", ["'x' is missing"], lambda: lane.run({}))
        self.fails("value", ["no input 'z'", "'x'"], lambda: lane.run({"x": good, "z": good}))
        self.fails("value", ["2 inputs are given, expected 1"], lambda: lane.run([good, good]))
        self.fails("type", ["'x' is f64, expected f32"], lambda: lane.run(good.astype("float64")))
        self.fails("type", ["other order"], lambda: lane.run(good.astype(">f4")))
        self.fails("type", ["datetime64"], lambda: lane.run(np.zeros((2, 3), "datetime64[s]")))
        self.fails("shape", ["'x' has shape 2x4"], lambda: lane.run(np.zeros((2, 4), "float32")))
        self.fails("type", ["a dict of names"], lambda: lane.run(7))
        self.fails("value", ["limit"], lambda: lane.run(good, limit=-1))
        self.fails("format", ["nowhere.onnx"], lambda: lathe.compile("nowhere.onnx"))
        self.fails("format", [], lambda: lathe.compile(b"not a model"))
        self.fails("value", ["avx9"], lambda: lathe.compile(identity("float32"), isa="avx9"))
        self.fails("value", ["nothing"], lambda: lathe.compile(identity("float32"), dims={"nothing": 3}))
        with self.assertRaises(TypeError):
            lathe.compile(identity("float32"), thread=1)
        np.testing.assert_array_equal(lane.run(good)["y"], good)  # none of it harmed the lane

    def test_runs_end_when_asked(self):
        lane = lathe.compile(slow(), threads=1).lane()
        x = np.ones((384 * 8, 384), "float32")
        self.fails("cancelled", [], lambda: lane.run(x, limit=0.02))
        stop = lathe.Stop()
        threading.Timer(0.1, stop.request).start()
        began = time.monotonic()
        self.fails("cancelled", [], lambda: lane.run(x, stop=stop))
        self.assertTrue(stop.requested)
        # The other threads went on meanwhile, or nobody would have asked.
        self.assertGreater(time.monotonic() - began, 0.05)

    def test_ctrl_c(self):
        lane = lathe.compile(slow(), threads=1).lane()
        x = np.ones((384 * 8, 384), "float32")
        threading.Timer(0.2, lambda: os.kill(os.getpid(), signal.SIGINT)).start()
        with self.assertRaises(KeyboardInterrupt):
            for _ in range(100):
                lane.run(x)

    def test_one_lane_in_two_threads_is_refused(self):
        lane = lathe.compile(slow(), threads=1).lane()
        x = np.ones((384 * 8, 384), "float32")
        stop, seen = lathe.Stop(), threading.Event()

        def watch(step, steps, share):
            seen.set()

        def work():
            try:
                lane.run(x, stop=stop, progress=watch)
            except lathe.Error:
                pass

        other = threading.Thread(target=work)
        other.start()
        seen.wait(20)
        self.fails("value", ["another thread"], lambda: lane.run(x))
        stop.request()
        other.join()

    def test_what_progress_throws_ends_the_run(self):
        def fail(step, steps, share):
            self.assertLessEqual(share, 1)
            raise KeyError("enough")

        lane = lathe.compile(identity("float32"), threads=1, plain=True).lane()
        with self.assertRaises(KeyError):
            lane.run(np.zeros((2, 3), "float32"), progress=fail)

    def test_comparisons_say_what_differs(self):
        a = np.arange(6, dtype="float32").reshape(2, 3)
        b = a.copy()
        b[1, 2] = 9
        c = lathe.compare(a, b)
        self.assertFalse(c)
        self.assertEqual(c.out_of_tolerance, 1)
        self.assertEqual(list(c.worst), [1, 2])
        self.assertEqual(c.max_absolute, 4)
        self.assertTrue(lathe.compare(a, b, absolute=5))


class Stubs(unittest.TestCase):
    def test_stubs_name_what_is_there(self):
        import ast

        tree = ast.parse((pathlib.Path(lathe.__file__).parent / "__init__.pyi").read_text())
        stubs = {n.name: n for n in tree.body if isinstance(n, (ast.ClassDef, ast.FunctionDef))}
        self.assertEqual(sorted(set(stubs) | {"__version__"}), sorted(lathe.__all__))
        for name, node in stubs.items():
            if not isinstance(node, ast.ClassDef) or name == "Error":
                continue
            described = {n.name for n in node.body if isinstance(n, ast.FunctionDef)} - {"__init__", "__len__", "__bool__"}
            offered = {n for n in vars(getattr(lathe, name)) if not n.startswith("_")}
            self.assertEqual(described, offered, name)


if __name__ == "__main__":
    unittest.main()
