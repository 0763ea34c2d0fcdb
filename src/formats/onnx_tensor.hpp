// Tensors between the wire schema and memory.
#pragma once

#include <filesystem>

#include "lathe/formats.hpp"
#include "onnx.pb.h"

namespace lathe {

// Where external data may come from.
struct DataFolder {
  std::filesystem::path folder;
  bool allow_outside = false;
  bool nowhere = false;  // the model came from memory
};

// Takes the bytes out of `proto` where it can (no copy of large initializers). `where` starts each error.
Tensor tensor_from_wire(wire::TensorProto& proto, const DataFolder& data, const std::string& where);
void tensor_to_wire(const Tensor& tensor, const std::string& name, wire::TensorProto& proto);

}  // namespace lathe
