// Items through a program, on several lanes at once.
#include <algorithm>
#include <atomic>
#include <chrono>
#include <cstring>
#include <exception>
#include <mutex>
#include <thread>

#include "base/clock.hpp"
#include "base/fail.hpp"
#include "lathe/judge.hpp"

namespace lathe {
namespace {

Tensor row_of(const Tensor& t, int64_t row, int64_t rows, const std::string& name) {
  if (rows == 1) return t;
  if (t.composite() || t.rank() == 0 || t.shape()[0] != rows || bit_width(t.dtype()) % 8 != 0 || t.dtype() == DType::string)
    fail(Category::shape, "output '{}' is {}: it has no row for each of the {} items of a batch", name,
         t.composite() ? to_string(t.kind()) : to_string(t.shape()), rows);
  Shape shape = t.shape();
  shape[0] = 1;
  Tensor out(t.dtype(), shape);
  if (out.byte_size() > 0)
    std::memcpy(out.data(), static_cast<const std::byte*>(t.data()) + static_cast<size_t>(row) * out.byte_size(), out.byte_size());
  return out;
}

// A batch being filled.
class Batch {
 public:
  Batch(const Program& program, const std::vector<Shape>& shapes) {
    for (size_t i = 0; i < shapes.size(); ++i) inputs.emplace_back(program.inputs()[i].dtype, shapes[i]);
    rows = shapes.empty() || shapes[0].empty() ? 1 : static_cast<size_t>(std::max<int64_t>(1, shapes[0][0]));
  }
  void put(size_t row, const std::vector<Tensor>& item) {
    for (size_t i = 0; i < inputs.size(); ++i) {
      const size_t each = inputs[i].byte_size() / rows;
      if (i >= item.size() || item[i].dtype() != inputs[i].dtype() || item[i].byte_size() != each)
        fail(Category::shape, "input {} of an item is {} of {}, the batch takes {} of {}", i,
             i < item.size() ? to_string(item[i].dtype()) : "nothing", i < item.size() ? to_string(item[i].shape()) : "nothing",
             to_string(inputs[i].dtype()), to_string(inputs[i].shape()));
      if (each > 0) std::memcpy(static_cast<std::byte*>(inputs[i].data()) + row * each, item[i].data(), each);
    }
  }
  // Rows that no item fills repeat the first.
  void fill_up(size_t used) {
    for (Tensor& t : inputs) {
      const size_t each = t.byte_size() / rows;
      auto* data = static_cast<std::byte*>(t.data());
      for (size_t r = used; r < rows && each > 0; ++r) std::memcpy(data + r * each, data, each);
    }
  }

  std::vector<Tensor> inputs;
  size_t rows = 1;
};

}  // namespace

Batches batches(const Program& program, const std::vector<Shape>& shapes, size_t items, std::function<std::vector<Tensor>(size_t)> load) {
  const size_t rows = Batch(program, shapes).rows;
  if (items < rows) fail(Category::value, "{} items do not fill one batch of {}", items, rows);
  if (rows == 1) return {items, std::move(load)};
  return {items / rows, [=, load = std::move(load)](size_t b) {
            Batch batch(program, shapes);
            for (size_t r = 0; r < rows; ++r) batch.put(r, load(b * rows + r));
            return batch.inputs;
          }};
}

ItemsRun run_items(const Program& program, const std::vector<Shape>& shapes, size_t items,
                   const std::function<std::vector<Tensor>(size_t)>& load,
                   const std::function<void(size_t, const std::vector<Tensor>&)>& take, const ItemsOptions& options) {
  const auto start = std::chrono::steady_clock::now();
  const size_t rows = Batch(program, shapes).rows, batches = (items + rows - 1) / rows;
  ItemsRun result;
  result.lanes = static_cast<int>(std::clamp<size_t>(
      options.lanes > 0 ? static_cast<size_t>(options.lanes) : static_cast<size_t>(usable_cores()), 1, std::max<size_t>(1, batches)));
  std::atomic<size_t> next = 0;
  std::atomic<bool> over = false;
  std::mutex mutex;
  std::exception_ptr thrown;
  size_t done = 0;
  const auto work = [&] {
    try {
      Lane lane(program, 1);
      Batch batch(program, shapes);
      for (size_t b = next++; b < batches && !over; b = next++) {
        std::vector<size_t> inside;
        for (size_t item = b * rows; item < std::min(items, (b + 1) * rows); ++item) {
          try {
            batch.put(inside.size(), load(item));
            inside.push_back(item);
          } catch (const Error& e) {
            if (options.strict) throw;
            const std::lock_guard lock(mutex);
            result.failed.emplace_back(item, e.what());
          }
        }
        if (!inside.empty()) {
          if (!program.states().empty()) lane.reset();  // an item begins anew
          batch.fill_up(inside.size());
          const Outputs out = lane.run(std::span<const Tensor>(batch.inputs), options.run);
          for (size_t r = 0; r < inside.size(); ++r) {
            std::vector<Tensor> own;
            for (size_t i = 0; i < out.size(); ++i)
              own.push_back(row_of(out[i], static_cast<int64_t>(r), static_cast<int64_t>(rows), out.name(i)));
            take(inside[r], own);
          }
        }
        const std::lock_guard lock(mutex);
        done += std::min(items, (b + 1) * rows) - b * rows;
        if (options.progress) options.progress(done);
      }
    } catch (...) {
      over = true;
      const std::lock_guard lock(mutex);
      if (!thrown) thrown = std::current_exception();
    }
  };
  std::vector<std::thread> others;
  for (int i = 1; i < result.lanes; ++i) others.emplace_back(work);
  work();
  for (std::thread& t : others) t.join();
  if (thrown) std::rethrow_exception(thrown);
  std::ranges::sort(result.failed);
  result.seconds = since(start);
  return result;
}

namespace {

// Of an item: whether it has an answer, and that; or why not.
void put_item(std::string& to, char kind, std::string_view bytes) {
  const uint64_t length = bytes.size();
  to += kind;
  to.append(reinterpret_cast<const char*>(&length), sizeof length).append(bytes);
}

}  // namespace

ItemsRun run_items(const Program& program, const std::vector<Shape>& shapes, size_t items,
                   const std::function<std::vector<Tensor>(size_t)>& load,
                   const std::function<void(size_t, const std::vector<Tensor>&)>& take, const AnswerForm& form,
                   const ItemsOptions& options) {
  if (!options.share.ranks && options.share.checkpoint.empty()) return run_items(program, shapes, items, load, take, options);
  const auto start = std::chrono::steady_clock::now();
  constexpr char kAnswered = 'a', kFailed = 'f';
  ItemsRun result;
  std::atomic<int> lanes = 0;
  const auto work = [&](size_t begin, size_t end) {
    ItemsOptions own = options;
    own.share = {}, own.progress = {};
    const ItemsRun run = run_items(
        program, shapes, end - begin, [&](size_t i) { return load(begin + i); },
        [&](size_t i, const std::vector<Tensor>& out) { take(begin + i, out); }, own);
    lanes = std::max<int>(lanes, run.lanes);
    std::string bytes;
    auto failed = run.failed.begin();
    for (size_t i = 0; i < end - begin; ++i) {
      if (failed != run.failed.end() && failed->first == i) put_item(bytes, kFailed, (failed++)->second);
      else put_item(bytes, kAnswered, form.pack(begin + i));
    }
    return bytes;
  };
  const auto gather = [&](size_t begin, size_t end, std::string_view bytes) {
    for (size_t i = begin; i < end; ++i) {
      uint64_t length = 0;
      constexpr size_t kHead = 1 + sizeof length;
      if (bytes.size() >= kHead) std::memcpy(&length, bytes.data() + 1, sizeof length);
      if (bytes.size() < kHead || bytes.size() - kHead < length)
        fail(Category::internal, "answers to items {} to {} are cut short", begin, end);
      const std::string_view answer = bytes.substr(kHead, length);
      if (bytes[0] == kFailed) result.failed.emplace_back(i, answer);
      else form.unpack(i, answer);
      bytes.remove_prefix(kHead + length);
    }
  };
  const size_t rows = Batch(program, shapes).rows;
  result.elsewhere = options.share.ranks && options.share.ranks->rank() > 0 && !options.share.everyone;
  result.shared =
      share_out(options.share, items, rows * static_cast<size_t>(std::max(1, options.lanes > 0 ? options.lanes : usable_cores())), work,
                gather, options.progress);
  std::ranges::sort(result.failed);
  result.lanes = lanes;
  result.seconds = since(start);
  return result;
}

}  // namespace lathe
