// The benchmark of memory-bound ops: each on large tensors, as a share of the copy bandwidth measured in the same interleaved rounds.
// Bytes are the least an op must move: what it reads once and what it writes once.
#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cstdlib>
#include <cstring>

#include "lathe/lathe.hpp"

using namespace lathe;
using Clock = std::chrono::steady_clock;
using Data = Attribute::Data;

namespace {

struct Item {
  std::string name;
  double read = 0, written = 0;
  double bytes() const { return read + written; }
  std::string step;  // what it compiled to
  std::vector<Tensor> inputs;
  std::unique_ptr<Lane> lane;
  std::vector<double> rates, shares, fill_shares;
};

double median(std::vector<double> v) {
  std::sort(v.begin(), v.end());
  return v.empty() ? 0 : v[v.size() / 2];
}

Tensor i64s(std::vector<int64_t> v) { return Tensor::from<int64_t>({static_cast<int64_t>(v.size())}, v); }

}  // namespace

int main(int argc, char** argv) {
  int rounds = 9, threads = usable_cores();
  std::string only;
  for (int i = 1; i < argc; ++i) {
    if (!std::strcmp(argv[i], "--rounds") && i + 1 < argc) rounds = std::max(3, std::atoi(argv[++i]));
    else if (!std::strcmp(argv[i], "--threads") && i + 1 < argc) threads = std::max(1, std::atoi(argv[++i]));
    else if (!std::strcmp(argv[i], "--only") && i + 1 < argc) only = argv[++i];
    else {
      fmt::print(stderr, "usage: movement [--rounds N] [--threads N] [--only TEXT]\n");
      return 2;
    }
  }
  std::vector<Item> items;
  using Inputs = std::vector<std::pair<DType, Dims>>;
  // `constants` follow the fed inputs.
  const auto add = [&](const std::string& name, const char* op, const Inputs& fed, const std::vector<Tensor>& constants,
                       std::map<std::string, Data> attributes, int outputs = 1) {
    if (name.find(only) == std::string::npos) return;
    Builder b("one", 21);
    std::vector<ValueId> in;
    for (const auto& [dtype, dims] : fed) in.push_back(b.input(fmt::format("x{}", in.size()), dtype, dims));
    for (const Tensor& t : constants) in.push_back(t.empty() ? kAbsent : b.constant(fmt::format("c{}", in.size()), t));
    for (ValueId v : b.ops(op, in, outputs, std::move(attributes))) b.output(v);
    Program p = compile(b.finish(), {.threads = threads});
    Item item{name, 0, 0, "", random_inputs(p, p.bound_shapes(), 1), std::make_unique<Lane>(p), {}, {}, {}};
    for (const StepInfo& s : p.describe().steps) item.step += (item.step.empty() ? "" : " + ") + s.kind;
    const Outputs out = item.lane->run(std::span<const Tensor>(item.inputs));
    for (const Tensor& t : item.inputs) item.read += static_cast<double>(t.byte_size());
    for (size_t i = 0; i < out.size(); ++i) item.written += static_cast<double>(out[i].byte_size());
    items.push_back(std::move(item));
  };
  fmt::print(stderr, "preparing...\n");
  constexpr auto f32 = DType::f32;
  using I = std::vector<int64_t>;
  add("transpose 4096 x 4096", "Transpose", {{f32, {4096, 4096}}}, {}, {{"perm", I{1, 0}}});
  add("transpose to channels last 64 x 512 x 512", "Transpose", {{f32, {1, 64, 512, 512}}}, {}, {{"perm", I{0, 2, 3, 1}}});
  add("transpose heads 2048 x 32 x 64 x 4", "Transpose", {{f32, {4, 2048, 32, 64}}}, {}, {{"perm", I{0, 2, 1, 3}}});
  add("transpose bytes 4096 x 4096", "Transpose", {{DType::u8, {8192, 8192}}}, {}, {{"perm", I{1, 0}}});
  add("slice inner", "Slice", {{f32, {8192, 4096}}}, {i64s({100}), i64s({3100}), i64s({1})}, {});
  add("concat inner", "Concat", {{f32, {8192, 1000}}, {f32, {8192, 1100}}}, {}, {{"axis", int64_t{1}}});
  add("split inner", "Split", {{f32, {8192, 2048}}}, {i64s({1000, 1048})}, {{"axis", int64_t{1}}}, 2);
  add("gather rows of 256", "Gather", {{f32, {16384, 256}}, {DType::i64, {32768}}}, {}, {{"axis", int64_t{0}}});
  add("expand a row", "Expand", {{f32, {1, 4096}}}, {i64s({4096, 4096})}, {});
  add("expand a column", "Expand", {{f32, {4096, 1}}}, {i64s({4096, 4096})}, {});
  add("tile 2 x 2", "Tile", {{f32, {2048, 2048}}}, {i64s({2, 2})}, {});
  add("pad 2 a side", "Pad", {{f32, {64, 512, 512}}}, {i64s({0, 2, 2, 0, 2, 2})}, {});
  add("pad reflect", "Pad", {{f32, {64, 512, 512}}}, {i64s({0, 2, 2, 0, 2, 2})}, {{"mode", std::string("reflect")}});
  add("where", "Where", {{DType::boolean, {4096, 2048}}, {f32, {4096, 2048}}, {f32, {4096, 2048}}}, {}, {});
  add("add", "Add", {{f32, {4096, 2048}}, {f32, {4096, 2048}}}, {}, {});
  add("resize nearest 2 x", "Resize", {{f32, {1, 32, 512, 512}}}, {Tensor(), Tensor::from<float>({4}, {1, 1, 2, 2})},
      {{"mode", std::string("nearest")}});
  add("resize linear 2 x", "Resize", {{f32, {1, 32, 512, 512}}}, {Tensor(), Tensor::from<float>({4}, {1, 1, 2, 2})},
      {{"mode", std::string("linear")}});
  add("resize linear 0.5 x", "Resize", {{f32, {1, 64, 1024, 512}}}, {Tensor(), Tensor::from<float>({4}, {1, 1, 0.5, 0.5})},
      {{"mode", std::string("linear")}});
  add("reduce sum, last axis", "ReduceSum", {{f32, {8192, 4096}}}, {i64s({1})}, {});
  add("reduce sum, first axis", "ReduceSum", {{f32, {8192, 4096}}}, {i64s({0})}, {});
  add("reduce mean, middle axis", "ReduceMean", {{f32, {64, 512, 1024}}}, {i64s({1})}, {});
  add("reduce max, last axis", "ReduceMax", {{f32, {8192, 4096}}}, {i64s({1})}, {});
  add("argmax, last axis", "ArgMax", {{f32, {8192, 4096}}}, {}, {{"axis", int64_t{1}}});
  add("top 10 of 4096", "TopK", {{f32, {8192, 4096}}}, {i64s({10})}, {}, 2);
  add("softmax of 1024", "Softmax", {{f32, {16384, 1024}}}, {}, {});
  add("layer normalisation of 1024", "LayerNormalization", {{f32, {16384, 1024}}},
      {random_inputs(compile([] {
                       Builder b("s");
                       b.output(b.op("Identity", {b.input("x", DType::f32, {1024})}), "y");
                       return b.finish();
                     }()),
                     {{1024}}, 3)[0]},
      {});
  std::vector<double> copies, fills;
  for (int r = 0; r < rounds; ++r) {
    fmt::print(stderr, "\rround {} of {} ", r + 1, rounds);
    for (Item& item : items) {
      const double copy = measure_copy_bandwidth(size_t{64} << 20, threads, 0.06);
      // What mostly writes is held against the rate of writing.
      const bool writes = item.written >= 2 * item.read;
      const double fill = writes ? measure_fill_bandwidth(size_t{64} << 20, threads, 0.06) : 0;
      copies.push_back(copy);
      if (writes) fills.push_back(fill);
      const auto start = Clock::now();
      item.lane->run(std::span<const Tensor>(item.inputs));
      const double s = std::chrono::duration<double>(Clock::now() - start).count();
      item.rates.push_back(item.bytes() / s / 1e9);
      item.shares.push_back(item.rates.back() / copy);
      if (writes) item.fill_shares.push_back(item.written / s / 1e9 / fill);
    }
  }
  fmt::print(stderr, "\r                    \r");
  fmt::print("copy bandwidth (reads and writes), {} thread{}: {:.1f} GB/s; writing alone {:.1f} GB/s; medians of {} interleaved rounds\n\n",
             threads, threads == 1 ? "" : "s", median(copies), median(fills), rounds);
  fmt::print("{:<44} {:>9} {:>9} {:>9} {:>9}  {}\n{:-<102}\n", "", "moves", "rate", "of copy", "of writes", "steps", "");
  for (const Item& i : items)
    fmt::print("{:<44} {:>5.0f} MiB {:>4.1f} GB/s {:>7.1f} % {:>9}  {}\n", i.name, i.bytes() / (1 << 20), median(i.rates),
               100 * median(i.shares), i.fill_shares.empty() ? "" : fmt::format("{:.1f} %", 100 * median(i.fill_shares)), i.step);
  return 0;
}
