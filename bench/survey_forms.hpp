// Forms of the standard's ops, for the survey.
#pragma once

#include <fmt/format.h>

#include <filesystem>
#include <functional>
#include <string>
#include <vector>

#include <lathe/lathe.hpp>

namespace lathe::survey {

using A = std::map<std::string, Attribute::Data>;
using List = std::vector<int64_t>;

// Makes the operands of a form in one dtype.
struct Form {
  Builder& b;
  DType d;

  ValueId in(const std::string& name, Dims dims) { return b.input(name, d, std::move(dims)); }
  ValueId typed(const std::string& name, DType dtype, Dims dims) { return b.input(name, dtype, std::move(dims)); }
  ValueId integers(const std::string& name, const List& v) {
    return b.constant(name, Tensor::from<int64_t>({static_cast<int64_t>(v.size())}, v));
  }
  // A constant of the dtype: small numbers that all types hold.
  ValueId weights(const std::string& name, const Shape& shape, DType dtype = DType::undefined) {
    if (dtype == DType::undefined) dtype = d;
    Tensor t(dtype, shape);
    uint64_t state = 88172645463325252ull;
    for (int64_t i = 0; i < t.size(); ++i) {
      state ^= state << 13, state ^= state >> 7, state ^= state << 17;
      const double v = is_float(dtype) ? static_cast<double>(state % 1024) / 1024 + 0.01 : static_cast<double>(state % 5 + 1);
      switch (dtype) {
        case DType::f32: t.as<float>()[i] = static_cast<float>(v); break;
        case DType::f64: t.as<double>()[i] = v; break;
        case DType::i32: t.as<int32_t>()[i] = static_cast<int32_t>(v); break;
        case DType::i64: t.as<int64_t>()[i] = static_cast<int64_t>(v); break;
        case DType::f16:
        case DType::bf16: static_cast<uint16_t*>(t.data())[i] = static_cast<uint16_t>(encode_narrow(dtype, v)); break;
        default: static_cast<uint8_t*>(t.data())[i] = dtype == DType::boolean ? state % 2 : static_cast<uint8_t>(v);
      }
    }
    return b.constant(name, std::move(t));
  }
  ValueId floats(const std::string& name, const std::vector<float>& v) {
    return b.constant(name, Tensor::from<float>({static_cast<int64_t>(v.size())}, v));
  }
  void out(const std::string& op, std::vector<ValueId> inputs, A attributes = {}, int outputs = 1) {
    const auto made = b.ops(op, std::move(inputs), outputs, std::move(attributes));
    for (ValueId v : made) b.output(v);
  }
};

struct Entry {
  std::string op, form;
  std::vector<DType> dtypes;
  std::function<void(Form&)> make;
  int64_t opset = 23;
};

inline const std::vector<DType> kReal{DType::f32, DType::f16, DType::bf16, DType::f64};
inline const std::vector<DType> kNumbers{DType::f32, DType::f16, DType::bf16, DType::f64, DType::i32, DType::i64};
inline const std::vector<DType> kAll{DType::f32, DType::f16, DType::bf16, DType::f64,    DType::i32,
                                     DType::i64, DType::u8,  DType::i8,   DType::boolean};
inline const std::vector<DType> kBytes{DType::u8, DType::i8};
// Numbers as sensors, pictures and hashes have them.
inline const std::vector<DType> kOtherWhole{DType::u8, DType::i8, DType::i16, DType::u16, DType::u32, DType::u64};
inline const std::vector<DType> kBool{DType::boolean};

// Each op by itself; and the same ops where models have them, along other axes and with operands that a run brings.
std::vector<Entry> single_ops();
std::vector<Entry> ops_in_models();

// What models in a folder leave to plain evaluation.
struct Left {
  struct Step {
    std::string model, op, why;
  };
  size_t models = 0, with_plain = 0;
  size_t with_programs = 0;  // with parts or subgraphs, which are compiled for what a run brings when that pays
  std::vector<Step> steps;
  std::vector<std::pair<std::string, std::string>> refused;  // models that were not compiled, and why
};
// Every .onnx below the folder, compiled with the shapes of the first case beside it.
Left plain_steps_of(const std::filesystem::path& root);

}  // namespace lathe::survey
