// Tensors of the library and arrays of numpy: the same memory where both have a type for it.
#pragma once

#include <pybind11/numpy.h>
#include <pybind11/pybind11.h>

#include <lathe/lathe.hpp>
#include <vector>

namespace lathe_python {

namespace py = pybind11;

// A tensor on the memory of `value`, which `held` keeps alive. What is no array (numbers, lists) becomes one of `wanted`; arrays keep their
// type, but for types that numpy does not have: bf16 comes as float32, 4-bit integers come as 8-bit ones. Arrays that are not C-contiguous
// are copied. Throws Error (type).
lathe::Tensor to_tensor(const std::string& name, py::handle value, const lathe::Port& wanted, std::vector<py::object>& held);

// An array on the tensor's memory, read-only; bf16 and 4-bit integers are copied to float32 and 8-bit integers. Sequences are lists,
// optionals None or an array, maps dicts. Throws Error (type) for types that numpy does not have.
py::object to_python(const std::string& name, const lathe::Tensor& tensor);

// A writable tensor on an array's memory. Throws Error (type): not contiguous, not writable, a type that numpy does not have.
lathe::Tensor to_memory(const std::string& name, const py::array& array);

}  // namespace lathe_python
