// What the fuzzers of models share: changes that keep a model a model, and made-up inputs for it.
#pragma once

#include <climits>
#include <cmath>
#include <cstdint>
#include <cstring>
#include <random>
#include <string_view>

#include "lathe/lathe.hpp"
#include "onnx.pb.h"

namespace fuzz {

// An input of the declared type: open dims are 2, contents count up.
inline lathe::Tensor made_up(const lathe::Type& type, int64_t& left) {
  using namespace lathe;
  if (type.kind == Type::Kind::sequence) return Tensor::sequence({made_up(type.inner.at(0), left), made_up(type.inner.at(0), left)});
  if (type.kind == Type::Kind::optional) return Tensor::optional(made_up(type.inner.at(0), left));
  if (type.kind == Type::Kind::map) throw Error(Category::unsupported, "no maps here");
  Shape shape;
  for (const Dim& d : type.dims.value_or(Dims())) shape.push_back(d.known() ? d.value : 2);
  const int64_t count = element_count(shape);
  if (count > left) throw Error(Category::resource, "more input than this fuzzer gives");
  left -= count;
  Tensor t(type.dtype == DType::undefined ? DType::f32 : type.dtype, shape);
  if (t.dtype() == DType::string) {
    for (std::string& s : t.as<std::string>()) s = "oak";
    return t;
  }
  if (t.dtype() == DType::f32) {  // multiples of an eighth from -1 to 1, zeros of both signs among them
    auto f = t.as<float>();
    for (size_t i = 0; i < f.size(); ++i) f[i] = (static_cast<float>(i * 7 % 17) - 8) / (i % 5 == 4 ? -8.0f : 8.0f);
    return t;
  }
  auto* bytes = static_cast<uint8_t*>(t.data());
  for (size_t i = 0; i < t.byte_size(); ++i) bytes[i] = t.dtype() == DType::boolean ? i % 2 : i % 7 == 0 ? 1 : 0;
  return t;
}

// Changes to a parsed model that keep it a model: bytes alone seldom do.
class Mutator {
 public:
  Mutator(lathe::wire::ModelProto& model, unsigned seed) : graph_(*model.mutable_graph()), random_(seed) {}

  void change() {
    switch (random_() % 8) {
      case 0: return attribute();
      case 1: return attribute();
      case 2: return dims();
      case 3: return constant();
      case 4: return input();
      case 5: return op();
      case 6: return dtype();
      default: return constant();
    }
  }

 private:
  int64_t number() {
    constexpr int64_t kOdd[] = {
        0, 1, -1, 2, -2, 3, 5, 7, 16, -16, 100, 1000, 65536, INT32_MAX, INT32_MIN, int64_t{1} << 40, INT64_MAX, INT64_MIN, INT64_MAX / 2};
    return random_() % 3 ? static_cast<int64_t>(random_() % 9) - 3 : kOdd[random_() % std::size(kOdd)];
  }
  template <typename List>
  auto* any(List* list) {
    return list->empty() ? nullptr : list->Mutable(static_cast<int>(random_() % list->size()));
  }

  void attribute() {
    auto* n = any(graph_.mutable_node());
    auto* a = n ? any(n->mutable_attribute()) : nullptr;
    if (!a) return;
    if (random_() % 12 == 0) return n->mutable_attribute()->RemoveLast();
    if (a->has_i()) a->set_i(number());
    else if (a->ints_size() && random_() % 4) a->set_ints(static_cast<int>(random_() % a->ints_size()), number());
    else if (a->ints_size()) random_() % 2 ? a->add_ints(number()) : a->mutable_ints()->RemoveLast();
    else if (a->has_f()) a->set_f(random_() % 4 ? static_cast<float>(number()) : random_() % 2 ? NAN : INFINITY);
    else if (a->has_s() && !a->s().empty()) (*a->mutable_s())[random_() % a->s().size()] = static_cast<char>(random_());
    else if (a->floats_size()) random_() % 2 ? a->mutable_floats()->RemoveLast() : a->add_floats(static_cast<float>(number()));
    else if (a->has_g()) {
      auto* inner = any(a->mutable_g()->mutable_node());
      auto* b = inner ? any(inner->mutable_attribute()) : nullptr;
      if (b && b->has_i()) b->set_i(number());
      else if (inner && inner->input_size()) inner->set_input(0, inner->input(inner->input_size() - 1));
    }
  }
  void dims() {
    auto* v = any(random_() % 4 ? graph_.mutable_input() : graph_.mutable_output());
    if (!v || !v->type().has_tensor_type()) return;
    auto* shape = v->mutable_type()->mutable_tensor_type()->mutable_shape();
    if (auto* d = any(shape->mutable_dim()); d && random_() % 4) d->set_dim_value(number());
    else if (random_() % 2) shape->add_dim()->set_dim_value(static_cast<int64_t>(random_() % 5));
    else if (shape->dim_size()) shape->mutable_dim()->RemoveLast();
  }
  void constant() {
    auto* t = any(graph_.mutable_initializer());
    if (!t) {  // make one of an input
      auto* v = any(graph_.mutable_input());
      if (!v || !v->type().has_tensor_type()) return;
      t = graph_.add_initializer();
      t->set_name(v->name());
      t->set_data_type(v->type().tensor_type().elem_type());
      int64_t count = 1;
      for (const auto& d : v->type().tensor_type().shape().dim())
        t->add_dims(d.dim_value()), count *= std::min<int64_t>(std::max<int64_t>(d.dim_value(), 0), 64);
      t->set_raw_data(std::string(
          static_cast<size_t>(std::min<int64_t>(count, 4096)) * (t->data_type() == 7 || t->data_type() == 11                         ? 8
                                                                 : t->data_type() == 2 || t->data_type() == 3 || t->data_type() == 9 ? 1
                                                                                                                                     : 4),
          '\0'));
      return;
    }
    const int64_t v = number();
    if (t->data_type() == 7 && t->raw_data().size() >= 8)
      std::memcpy(t->mutable_raw_data()->data() + random_() % (t->raw_data().size() / 8) * 8, &v, 8);
    else if (t->int64_data_size()) t->set_int64_data(static_cast<int>(random_() % t->int64_data_size()), v);
    else if (t->dims_size()) t->set_dims(static_cast<int>(random_() % t->dims_size()), v);
    else if (!t->raw_data().empty()) (*t->mutable_raw_data())[random_() % t->raw_data().size()] = static_cast<char>(random_());
  }
  void input() {
    auto* n = any(graph_.mutable_node());
    if (!n || n->input_size() == 0) return;
    const int at = static_cast<int>(random_() % n->input_size());
    switch (random_() % 4) {
      case 0: return n->set_input(at, "");
      case 1: return n->mutable_input()->RemoveLast();
      case 2:
        if (auto* v = any(graph_.mutable_input())) n->set_input(at, v->name());
        return;
      default: n->add_input(n->input(at));
    }
  }
  void op() {
    static const auto ops = lathe::all_ops();
    auto* n = any(graph_.mutable_node());
    if (!n) return;
    const auto* d = ops[random_() % ops.size()];
    n->set_op_type(d->name);
    n->set_domain(d->domain);
  }
  void dtype() {
    auto* v = any(graph_.mutable_input());
    if (v && v->type().has_tensor_type()) v->mutable_type()->mutable_tensor_type()->set_elem_type(static_cast<int>(random_() % 24));
  }

  lathe::wire::GraphProto& graph_;
  std::mt19937 random_;
};

}  // namespace fuzz

// Of libFuzzer.
extern "C" size_t LLVMFuzzerMutate(uint8_t* data, size_t size, size_t most);

extern "C" size_t LLVMFuzzerCustomMutator(uint8_t* data, size_t size, size_t most, unsigned seed) {
  lathe::wire::ModelProto model;
  if (seed % 8 == 0 || !model.ParseFromArray(data, static_cast<int>(size))) return LLVMFuzzerMutate(data, size, most);
  fuzz::Mutator mutator(model, seed);
  for (unsigned i = 0; i <= seed / 8 % 3; ++i) mutator.change();
  const std::string bytes = model.SerializeAsString();
  if (bytes.size() > most) return LLVMFuzzerMutate(data, size, most);
  std::memcpy(data, bytes.data(), bytes.size());
  return bytes.size();
}
