#include "runtime/kept_states.hpp"

#include <algorithm>
#include <cstring>
#include <numeric>

#include "base/fail.hpp"
#include "base/memory.hpp"
#include "tensor/widen.hpp"

namespace lathe {

namespace {

// The axis that sequences side by side have in a state: the first that is open by the name of a dim of an input; else the first of all.
int sequence_axis(const StateInfo& info, const std::vector<Port>& inputs) {
  for (size_t d = 0; d < info.dims->size(); ++d) {
    const Dim& dim = (*info.dims)[d];
    if (static_cast<int>(d) == info.axis || dim.symbol.empty()) continue;
    for (const Port& p : inputs) {
      if (p.dims && p.name != info.pair.input && std::ranges::any_of(*p.dims, [&](const Dim& other) { return other.symbol == dim.symbol; }))
        return static_cast<int>(d);
    }
  }
  return 0;
}

// Entries along an axis, these of them in this order.
Tensor picked(const Tensor& t, int axis, std::span<const int64_t> from) {
  Shape shape = t.shape();
  const int64_t whole = shape[static_cast<size_t>(axis)];
  shape[static_cast<size_t>(axis)] = static_cast<int64_t>(from.size());
  Tensor out(t.dtype(), shape);
  int64_t outer = 1;
  for (int a = 0; a < axis; ++a) outer *= shape[static_cast<size_t>(a)];
  const size_t entries = static_cast<size_t>(outer) * from.size(), run = entries == 0 ? 0 : out.byte_size() / entries;
  auto* to = static_cast<std::byte*>(out.data());
  for (int64_t o = 0; o < outer; ++o) {
    for (const int64_t f : from) {
      if (run > 0) std::memcpy(to, static_cast<const std::byte*>(t.data()) + static_cast<size_t>(o * whole + f) * run, run);
      to += run;
    }
  }
  return out;
}

// Entries [from, from + count) along an axis.
Tensor part(const Tensor& t, int axis, int64_t from, int64_t count) {
  std::vector<int64_t> which(static_cast<size_t>(count));
  std::iota(which.begin(), which.end(), from);
  return picked(t, axis, which);
}

// The places of a state's elements in the model's order of axes, part by part: of slot's line l, position p, element w. `shape`: the
// state's.
class Places {
 public:
  Places(const passes::StateOrder& order, const Shape& shape) : order_(order), strides_(shape.size(), 1), shape_(shape) {
    for (size_t d = shape.size() - 1; d-- > 0;) strides_[d] = strides_[d + 1] * shape[d + 1];
  }
  // Calls f(slot's element, state's element, count) for runs of elements that lie together in both, of part `part`, whose slot has `room`.
  template <typename F>
  void each(size_t part, int64_t room, F&& f) const {
    const auto size = [&](int k) { return shape_[static_cast<size_t>(order_.parts[part][static_cast<size_t>(k)])]; };
    const auto stride = [&](int k) { return strides_[static_cast<size_t>(order_.parts[part][static_cast<size_t>(k)])]; };
    const int64_t heads = size(1), positions = size(2), width = size(3), run = stride(3) == 1 ? width : 1;
    const int64_t start = order_.stack < 0 ? 0 : static_cast<int64_t>(part) * strides_[static_cast<size_t>(order_.stack)];
    for (int64_t l = 0; l < size(0) * heads; ++l) {
      for (int64_t p = 0; p < positions; ++p) {
        const int64_t there = start + l / heads * stride(0) + l % heads * stride(1) + p * stride(2), here = (l * room + p) * width;
        for (int64_t w = 0; w < width; w += run) f(here + w, there + w * stride(3), run);
      }
    }
  }

 private:
  const passes::StateOrder& order_;
  Shape strides_, shape_;
};

// Rows of `bytes` from each of so many lines to as many others, whose lines begin these many bytes apart.
void copy_lines(int64_t lines, int64_t bytes, const void* from, int64_t from_apart, void* to, int64_t to_apart) {
  for (int64_t l = 0; l < lines; ++l)
    std::memcpy(static_cast<std::byte*>(to) + l * to_apart, static_cast<const std::byte*>(from) + l * from_apart,
                static_cast<size_t>(bytes));
}

// A tensor into a larger one, beginning at this place of it.
void put(const Tensor& t, Tensor& into, const Shape& at) {
  if (t.size() == 0) return;
  const size_t rank = t.shape().size(), run = static_cast<size_t>(t.shape().back()) * (t.byte_size() / static_cast<size_t>(t.size()));
  const auto* from = static_cast<const std::byte*>(t.data());
  Shape index(rank, 0);
  for (int64_t rows = t.size() / t.shape().back(); rows > 0; --rows, from += run) {
    int64_t place = 0;
    for (size_t d = 0; d < rank; ++d) place = place * into.shape()[d] + index[d] + at[d];
    std::memcpy(static_cast<std::byte*>(into.data()) + static_cast<size_t>(place) * (run / static_cast<size_t>(t.shape().back())), from,
                run);
    for (size_t d = rank - 1; d-- > 0;) {
      if (++index[d] < t.shape()[d]) break;
      index[d] = 0;
    }
  }
}

}  // namespace

int64_t KeptStates::row_bytes(size_t slot) const { return shapes_[slot][3] * static_cast<int64_t>(sizeof(float)); }

Shape KeptStates::shape_of(const ProgramImpl::Kept& k) const {
  Shape shape(k.info.dims->size(), static_cast<int64_t>(k.order.parts.size()));  // of the stacked axis, if there is one
  for (size_t a = 0; a < 4; ++a) shape[static_cast<size_t>(k.order.parts[0][a])] = a == 2 ? held_.positions : shapes_[k.input][a];
  return shape;
}

bool KeptStates::all_grow() const {
  return std::ranges::all_of(impl_.kept, [](const ProgramImpl::Kept& k) { return k.info.axis >= 0; });
}

void KeptStates::forget_changes() {
  for (auto& c : changed_) c = {};
}

void KeptStates::begin() {
  changes_.by_memory.clear();
  for (size_t k = 0; k < impl_.kept.size(); ++k) {
    lower::StateChanges::State& c = changed_[k];
    if (c.written) c = {};  // by a run that was not done
    if (impl_.kept[k].info.in_place || impl_.kept[k].info.axis >= 0 || now_[k].empty() || next_[k].empty()) continue;
    if (c.to != next_[k].data()) c = {};
    c.to = next_[k].data();
    changes_.by_memory.emplace_back(now_[k].data(), &c);
  }
}

void KeptStates::reset() {
  forget_changes();
  held_.positions = 0;
  for (Tensor& t : now_) t = Tensor();
}

void KeptStates::rewind(int64_t n) {
  forget_changes();
  if (n < 0 || n > positions()) fail(Category::value, "cannot go back by {} positions: {} are held", n, positions());
  if (n == 0) return;
  if (n < positions() && !all_grow())
    fail(Category::value,
         "cannot go back by {} positions: a state that does not grow has forgotten what it was; save_state() and restore_state() can", n);
  if (n == positions()) return reset();
  for (size_t i = 0; i < now_.size(); ++i) {
    if (!now_[i].empty()) now_[i] = part(now_[i], impl_.kept[i].info.axis, 0, positions() - n);
  }
  held_.positions -= n;
}

void KeptStates::keep_last(int64_t n) {
  forget_changes();
  if (n < 0) fail(Category::value, "cannot keep the last {} positions", n);
  if (n >= positions()) return;
  if (!all_grow())
    fail(Category::value, "cannot keep {} of {} positions: a state that does not grow does not know them apart", n, positions());
  const int64_t gone = positions() - n;
  for (size_t slot = 0; slot < memory_.size(); ++slot) {
    const int64_t row = row_bytes(slot);
    for (int64_t l = 0; l < lines(slot); ++l) {
      std::byte* line = memory_[slot].get() + l * held_.room * row;
      std::memmove(line, line + gone * row, static_cast<size_t>(n * row));
    }
  }
  for (size_t i = 0; i < now_.size(); ++i) {
    if (!now_[i].empty()) now_[i] = part(now_[i], impl_.kept[i].info.axis, gone, n);
  }
  held_.positions = n;
}

void KeptStates::arrange(std::span<const int64_t> from) {
  forget_changes();
  if (positions() == 0 || from.empty()) fail(Category::value, "no sequences are held that could be arranged");
  // Everything is looked at before anything changes.
  std::vector<Tensor> now(now_.size());
  const auto check = [&](const std::string& name, int64_t sequences) {
    for (const int64_t f : from) {
      if (f < 0 || f >= sequences) fail(Category::value, "state '{}' holds {} sequences, there is no number {}", name, sequences, f);
    }
  };
  for (size_t i = 0; i < impl_.kept.size(); ++i) {
    const auto& k = impl_.kept[i];
    if (k.info.in_place) {
      check(k.info.pair.input, shapes_[k.input][0]);  // of its parts each
    } else if (!now_[i].empty()) {
      const int axis = sequence_axis(k.info, impl_.inputs);
      if (now_[i].rank() == 0) fail(Category::value, "state '{}' has no axis for sequences", k.info.pair.input);
      check(k.info.pair.input, now_[i].shape()[static_cast<size_t>(axis)]);
      now[i] = picked(now_[i], axis, from);
    }
  }
  std::vector<std::shared_ptr<std::byte>> fresh;
  for (size_t slot = 0; slot < shapes_.size(); ++slot) {
    const int64_t row = row_bytes(slot), heads = shapes_[slot][1], line = held_.room * row;
    fresh.push_back(allocate_aligned(std::max<size_t>(1, static_cast<size_t>(static_cast<int64_t>(from.size()) * heads * line))));
    for (size_t b = 0; b < from.size(); ++b)
      copy_lines(heads, held_.positions * row, memory_[slot].get() + from[b] * heads * line, line,
                 fresh[slot].get() + static_cast<int64_t>(b) * heads * line, line);
  }
  for (Shape& s : shapes_) s[0] = static_cast<int64_t>(from.size());
  memory_ = std::move(fresh);
  point();
  now_ = std::move(now);
}

void KeptStates::join(const SavedState& saved) {
  if (positions() == 0) return restore(saved);
  const SavedState here = save();
  SavedState both{std::max(here.positions, saved.positions), {}};
  for (const auto& k : impl_.kept) {
    const std::string& name = k.info.pair.input;
    const auto find = [&](const SavedState& in) -> const Tensor& {
      const auto it = std::ranges::find(in.tensors, name, [](const auto& t) { return t.first; });
      if (it == in.tensors.end()) fail(Category::value, "state '{}' is not among what is saved", name);
      return it->second;
    };
    const Tensor &a = find(here), &b = find(saved);
    const auto line = static_cast<size_t>(sequence_axis(k.info, impl_.inputs));
    if (a.dtype() != b.dtype())
      fail(Category::type, "state '{}' is {}, what is saved {}", name, to_string(a.dtype()), to_string(b.dtype()));
    Shape shape = a.shape(), at(shape.size(), 0), behind(shape.size(), 0);
    bool fit = line < shape.size() && b.shape().size() == shape.size() && b.shape()[line] == 1;
    for (size_t d = 0; fit && d < shape.size(); ++d) {
      if (static_cast<int>(d) == k.info.axis) {
        fit = b.shape()[d] == saved.positions;
        shape[d] = both.positions;
        at[d] = both.positions - here.positions;
        behind[d] = both.positions - saved.positions;
      } else if (d == line) {
        behind[d] = shape[d]++;
      } else {
        fit = shape[d] == b.shape()[d];
      }
    }
    if (!fit)
      fail(Category::shape, "state '{}' is {}, what is saved {}: expected one sequence more of the same sizes", name, to_string(a.shape()),
           to_string(b.shape()));
    Tensor out(a.dtype(), shape);
    if (out.byte_size() > 0) std::memset(out.data(), 0, out.byte_size());
    put(a, out, at);
    put(b, out, behind);
    both.tensors.emplace_back(name, std::move(out));
  }
  restore(both);
}

SavedState KeptStates::save() const {
  SavedState saved{positions(), {}};
  for (size_t i = 0; i < impl_.kept.size(); ++i) {
    const auto& k = impl_.kept[i];
    if (!k.info.in_place) {
      if (!now_[i].empty()) saved.tensors.emplace_back(k.info.pair.input, now_[i].clone());
      continue;
    }
    if (positions() == 0) continue;
    const Shape shape = shape_of(k);
    Tensor t(DType::f32, shape);
    float* to = t.as<float>().data();
    const Places places(k.order, shape);
    for (size_t part = 0; part < k.order.parts.size(); ++part) {
      const auto* from = reinterpret_cast<const float*>(memory_[k.input + part].get());
      places.each(part, held_.room, [&](int64_t here, int64_t there, int64_t run) { std::copy_n(from + here, run, to + there); });
    }
    if (k.info.dtype != DType::f32) t = narrow<double>(k.info.dtype, shape, widen<double>(t));
    saved.tensors.emplace_back(k.info.pair.input, std::move(t));
  }
  return saved;
}

void KeptStates::restore(const SavedState& saved) {
  if (impl_.options.positions > 0 && saved.positions > impl_.options.positions)
    fail(Category::value, "{} positions are saved, the program holds {} at most", saved.positions, impl_.options.positions);
  std::vector<const Tensor*> found(impl_.kept.size());
  for (const auto& [name, tensor] : saved.tensors) {
    const auto it = std::ranges::find(impl_.kept, name, [](const ProgramImpl::Kept& k) { return k.info.pair.input; });
    if (it == impl_.kept.end()) fail(Category::value, "no state is named '{}'", name);
    const StateInfo& info = it->info;
    if (tensor.dtype() != info.dtype)
      fail(Category::type, "state '{}' is {}, what is saved {}", name, to_string(info.dtype), to_string(tensor.dtype()));
    bool fit = tensor.shape().size() == info.dims->size();
    for (size_t d = 0; fit && d < info.dims->size(); ++d) {
      const Dim& dim = (*info.dims)[d];
      fit = static_cast<int>(d) == info.axis ? tensor.shape()[d] == saved.positions : !dim.known() || dim.value == tensor.shape()[d];
      if (info.in_place && static_cast<int>(d) == it->order.stack) fit = tensor.shape()[d] == std::ssize(it->order.parts);
    }
    if (!fit)
      fail(Category::shape, "state '{}' is {}, what is saved {} ({} positions)", name, to_string(*info.dims), to_string(tensor.shape()),
           saved.positions);
    found[static_cast<size_t>(it - impl_.kept.begin())] = &tensor;
  }
  for (size_t i = 0; i < found.size(); ++i) {
    if (found[i] == nullptr && impl_.kept[i].info.axis >= 0 && saved.positions > 0)
      fail(Category::value, "state '{}' is not among what is saved", impl_.kept[i].info.pair.input);
  }
  reset();
  std::vector<Shape> shapes;
  for (size_t i = 0; i < found.size(); ++i) {
    if (!impl_.kept[i].info.in_place) {
      if (found[i] != nullptr) now_[i] = found[i]->clone();
    } else if (found[i] != nullptr) {
      for (const auto& axes : impl_.kept[i].order.parts) {
        Shape& slot = shapes.emplace_back();
        for (const int a : axes) slot.push_back(found[i]->shape()[static_cast<size_t>(a)]);
        slot[2] = 0;
      }
    }
  }
  if (!shapes.empty()) {
    if (shapes != shapes_ || held_.room < saved.positions) {
      shapes_ = std::move(shapes);
      memory_.clear();
      held_.room = 0;
      allocate(saved.positions);
    }
    for (size_t i = 0; i < found.size(); ++i) {
      const auto& k = impl_.kept[i];
      if (!k.info.in_place) continue;
      const Tensor wide = k.info.dtype == DType::f32 ? *found[i] : narrow<double>(DType::f32, found[i]->shape(), widen<double>(*found[i]));
      const float* from = wide.as<float>().data();
      const Places places(k.order, wide.shape());
      for (size_t part = 0; part < k.order.parts.size(); ++part) {
        auto* to = reinterpret_cast<float*>(memory_[k.input + part].get());
        places.each(part, held_.room, [&](int64_t here, int64_t there, int64_t run) { std::copy_n(from + there, run, to + here); });
      }
    }
  }
  held_.positions = saved.positions;
}

void KeptStates::fill(std::span<Tensor> inputs) {
  std::vector<Shape> shapes;
  for (size_t i = 0; i < impl_.kept.size(); ++i) {
    const auto& k = impl_.kept[i];
    if (k.info.in_place) continue;
    if (now_[i].empty()) {
      for (size_t p = shapes.size(); p < inputs.size(); ++p)
        shapes.push_back(inputs[p].empty() || inputs[p].composite() ? Shape() : inputs[p].shape());
      now_[i] = Tensor(k.info.dtype, impl_.state_shape(k.info, shapes, 0));
      if (now_[i].byte_size() > 0) std::memset(now_[i].data(), 0, now_[i].byte_size());
    }
    inputs[k.input] = now_[i];
  }
}

void KeptStates::allocate(int64_t room) {
  if (impl_.options.positions > 0) room = impl_.options.positions;
  const size_t most = impl_.options.arena_limit > 0 ? impl_.options.arena_limit : physical_memory();
  double bytes = 0;
  for (size_t slot = 0; slot < shapes_.size(); ++slot)
    bytes += static_cast<double>(shapes_[slot][0]) * static_cast<double>(shapes_[slot][1]) * static_cast<double>(shapes_[slot][3]) * 4.0 *
             static_cast<double>(room);
  if (bytes > static_cast<double>(most))
    fail(Category::resource, "room for {} positions in states takes {:.0f} bytes, the limit is {}", room, bytes, most);
  std::vector<std::shared_ptr<std::byte>> fresh;
  for (size_t slot = 0; slot < shapes_.size(); ++slot) {
    const int64_t row = row_bytes(slot);
    const auto bytes = static_cast<size_t>(lines(slot) * room * row);
    fresh.push_back(allocate_aligned(std::max<size_t>(bytes, 1)));
    if (slot < memory_.size())
      copy_lines(lines(slot), held_.positions * row, memory_[slot].get(), held_.room * row, fresh[slot].get(), room * row);
  }
  memory_ = std::move(fresh);
  held_.room = room;
  point();
}

void KeptStates::point() {
  held_.slots.clear(), held_.each.clear();
  for (size_t slot = 0; slot < memory_.size(); ++slot) {
    held_.slots.push_back(memory_[slot].get());
    held_.each.push_back(lines(slot) * shapes_[slot][3]);
  }
}

void KeptStates::within_limit(int64_t fresh) const {
  if (impl_.options.positions > 0 && held_.positions + fresh > impl_.options.positions)
    fail(Category::value, "{} positions are held and {} are new, the program holds {} at most; reset, rewind or keep the last ones",
         held_.positions, fresh, impl_.options.positions);
}

void KeptStates::make_room(const ProgramImpl::Held& form) {
  const int64_t wanted = held_.positions + form.fresh;
  within_limit(form.fresh);
  if (shapes_ != form.shapes) {
    if (held_.positions > 0)
      fail(Category::shape, "what is held is {}, this run needs {}: reset first", to_string(shapes_[0]), to_string(form.shapes[0]));
    shapes_ = form.shapes;
    memory_.clear();
    held_.room = 0;
  }
  constexpr int64_t kLeast = 64;
  if (held_.room < wanted) allocate(std::max({wanted, held_.room * 2, kLeast}));
}

void KeptStates::prelude_inputs(const ProgramImpl::Held& form, std::span<const Tensor> inputs, std::vector<Tensor>& to) const {
  to.clear();
  for (size_t index : form.prelude_inputs) {
    if (index < impl_.inputs.size()) {
      to.push_back(inputs[index]);
      continue;
    }
    const ProgramImpl::Kept& k = impl_.growing(index - impl_.inputs.size());
    to.push_back(Tensor::borrow(k.info.dtype, shape_of(k), memory_[k.input].get()));  // asked for its shape alone
  }
}

Tensor KeptStates::memory(size_t state, DType dtype, const std::optional<Shape>& shape) {
  if (!shape) return {};
  const int axis = impl_.kept[state].info.axis;
  if (axis >= 0) within_limit((*shape)[static_cast<size_t>(axis)] - held_.positions);
  Tensor& t = next_[state];
  if (t.empty() || t.dtype() != dtype || t.shape() != *shape || t.data() == now_[state].data()) t = Tensor(dtype, *shape);
  return t;
}

void KeptStates::done(int64_t fresh) {
  bool grown = false;
  for (size_t i = 0; i < impl_.kept.size(); ++i) {
    const auto& k = impl_.kept[i];
    if (k.info.in_place) continue;
    std::swap(now_[i], next_[i]);
    changed_[i].known = changed_[i].written;
    changed_[i].written = false;
    changed_[i].to = next_[i].data();
    if (k.info.axis >= 0) held_.positions = now_[i].shape()[static_cast<size_t>(k.info.axis)], grown = true;
  }
  if (!grown) held_.positions += fresh;
}

}  // namespace lathe
