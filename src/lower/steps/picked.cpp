// Compress and NonZero: how many are left a run finds out. They are counted, then copied or named.
#include <algorithm>
#include <cstring>
#include <numeric>

#include "lower/plan/copies.hpp"
#include "lower/steps/tensor_step.hpp"
#include "ops/support.hpp"

namespace lathe::lower {
namespace {

class CompressKernel : public TensorKernel {
 protected:
  std::vector<Tensor> make(const StepContext& c, std::span<const Tensor> inputs, std::span<const Tensor>,
                           std::span<Tensor> before) const override {
    check(inputs);
    const bool flat = !node->find<int64_t>("axis");
    const Tensor &x = inputs[0], &condition = inputs[1];
    Shape shape = flat ? Shape{x.size()} : x.shape();
    const auto axis = static_cast<size_t>(flat ? 0 : ops::wrap_axis(node->integer("axis", 0), x.rank()));
    const bool* keep = condition.as<bool>().data();
    const int64_t n = shape[axis], length = condition.size();
    if (length > n)
      throw Error({{Category::shape, label(*graph, *node), fmt::format("the condition has {} entries, axis {} {}", length, axis, n)}});
    const int64_t outer = product(shape, 0, axis), kept = std::count(keep, keep + length, true);
    const auto row = static_cast<size_t>(product(shape, axis + 1, shape.size()) * copy_bytes(x.dtype()));
    shape[axis] = kept;
    std::vector<Tensor> result;
    Tensor& out = result.emplace_back(memory(x.dtype(), shape, before[0]));
    if (out.size() == 0) return result;
    // What is kept side by side is copied as one. A task is a part of them, in all blocks.
    const int64_t tasks = std::clamp<int64_t>(static_cast<int64_t>(out.byte_size()) / kTask, 1, c.workers.size() * 4);
    std::vector<int64_t> first(static_cast<size_t>(tasks) + 1, 0);  // how many are kept before each part
    const auto begin = [&](int64_t task) { return length * task / tasks; };
    for (int64_t t = 0; t < tasks; ++t) first[t + 1] = first[t] + std::count(keep + begin(t), keep + begin(t + 1), true);
    c.workers.each(tasks, [&](int64_t task, int) {
      for (int64_t o = 0; o < outer; ++o) {
        const auto* from = static_cast<const std::byte*>(x.data()) + static_cast<size_t>(o * n) * row;
        auto* to = static_cast<std::byte*>(out.data()) + static_cast<size_t>(o * kept + first[task]) * row;
        for (int64_t k = begin(task); k < begin(task + 1);) {
          if (!keep[k]) {
            ++k;
            continue;
          }
          int64_t end = k + 1;
          while (end < begin(task + 1) && keep[end]) ++end;
          const size_t bytes = static_cast<size_t>(end - k) * row;
          std::memcpy(to, from + static_cast<size_t>(k) * row, bytes);
          to += bytes;
          k = end;
        }
      }
    });
    return result;
  }

 private:
  static constexpr int64_t kTask = 64 << 10;
};

class NonZeroKernel : public TensorKernel {
 protected:
  std::vector<Tensor> make(const StepContext& c, std::span<const Tensor> inputs, std::span<const Tensor>,
                           std::span<Tensor> before) const override {
    check(inputs);
    const Tensor& x = inputs[0];
    switch (x.dtype()) {
      case DType::f32: return found(c, x, x.as<float>().data(), before, [](float v) { return v != 0; });
      case DType::f64: return found(c, x, x.as<double>().data(), before, [](double v) { return v != 0; });
      // The sign of a zero is none of its number.
      case DType::f16:
      case DType::bf16: return found(c, x, static_cast<const uint16_t*>(x.data()), before, [](uint16_t v) { return (v & 0x7fff) != 0; });
      default: break;
    }
    const auto whole = [](auto v) { return v != 0; };
    switch (copy_bytes(x.dtype())) {
      case 1: return found(c, x, static_cast<const uint8_t*>(x.data()), before, whole);
      case 2: return found(c, x, static_cast<const uint16_t*>(x.data()), before, whole);
      case 4: return found(c, x, static_cast<const uint32_t*>(x.data()), before, whole);
      default: return found(c, x, static_cast<const uint64_t*>(x.data()), before, whole);
    }
  }

 private:
  static constexpr int64_t kTask = 32 << 10;

  // By lines of the last axis, shared out.
  template <typename T, typename F>
  std::vector<Tensor> found(const StepContext& c, const Tensor& x, const T* values, std::span<Tensor> before, F set) const {
    const int64_t rank = x.rank(), length = rank == 0 ? 1 : x.shape().back(), lines = length == 0 ? 0 : x.size() / length;
    const int64_t tasks = std::clamp<int64_t>(std::min(lines, x.size() / kTask), 1, c.workers.size() * 4);
    const auto begin = [&](int64_t task) { return lines * task / tasks; };
    std::vector<int64_t> first(static_cast<size_t>(tasks) + 1, 0);
    c.workers.each(tasks,
                   [&](int64_t t, int) { first[t + 1] = std::count_if(values + begin(t) * length, values + begin(t + 1) * length, set); });
    std::partial_sum(first.begin(), first.end(), first.begin());
    const int64_t count = first.back();
    std::vector<Tensor> result;
    Tensor& made = result.emplace_back(memory(DType::i64, {rank, count}, before[0]));
    if (count == 0 || rank == 0) return result;
    int64_t* out = made.as<int64_t>().data();
    c.workers.each(tasks, [&](int64_t t, int) {
      int64_t n = first[t];
      const int64_t stop = first[t + 1];
      int64_t* last = out + (rank - 1) * count;
      for (int64_t line = begin(t); line < begin(t + 1) && n < stop; ++line) {
        const T* row = values + line * length;
        const int64_t from = n;
        // Written and then counted or not: half of the branches would be guessed wrong.
        int64_t i = 0;
        for (; i < length && n + 1 < stop; ++i) {
          last[n] = i;
          n += set(row[i]);
        }
        for (; i < length && n < stop; ++i) {
          if (set(row[i])) last[n++] = i;
        }
        for (int64_t d = rank - 2, rest = line; d >= 0; --d) {
          const int64_t size = x.shape()[static_cast<size_t>(d)];
          std::fill(out + d * count + from, out + d * count + n, rest % size);
          rest /= size;
        }
      }
    });
    return result;
  }
};

class PickedFamily : public StepFamily {
 public:
  std::string_view name() const override { return "picked"; }

  std::unique_ptr<Match> match(const GraphView& view, const Group& group, const Machine&) const override {
    if (!group.single()) return nullptr;
    const Node& n = view.node(group.nodes[0]);
    if (!n.domain.empty() || (n.op != "Compress" && n.op != "NonZero") || copy_bytes(view.dtype(n.inputs[0])) == 0) return nullptr;
    const DType d = view.dtype(n.inputs[0]);
    if (n.op == "NonZero" && is_float(d) && bit_width(d) < 16) return nullptr;
    return std::make_unique<Match>(view, group, StepKind::copy);
  }

  void lower(PlanBuilder& b, const Match& m, const Problem&, const Recipe&) const override {
    if (m.node().op == "Compress") add_tensor_step(b, m, std::make_unique<CompressKernel>(), "counted, then copied");
    else add_tensor_step(b, m, std::make_unique<NonZeroKernel>(), "counted, then named");
  }
};

}  // namespace

const StepFamily& picked() {
  static const PickedFamily family;
  return family;
}

}  // namespace lathe::lower
