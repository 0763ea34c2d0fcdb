#include "lower/fuse/row_tape.hpp"

#include <algorithm>
#include <cstring>

#include "base/fail.hpp"

namespace lathe::lower {

using kernels::TapeOperand;

namespace {

constexpr int64_t kShort = 256;    // elements of a row: from so many on a call for each is well spent
constexpr int64_t kAtOnce = 1024;  // elements of a call
constexpr int kMostCopied = 6;     // operands

// A short run, without a call: pieces from both ends of it meet or overlap.
template <size_t Piece>
void two_pieces(const char* from, int64_t bytes, char* to) {
  char a[Piece], b[Piece];
  std::memcpy(a, from, Piece), std::memcpy(b, from + bytes - Piece, Piece);
  std::memcpy(to, a, Piece), std::memcpy(to + bytes - Piece, b, Piece);
}
void copy_run(const char* from, int64_t bytes, char* to) {
  if (bytes > 64) std::memcpy(to, from, static_cast<size_t>(bytes));
  else if (bytes > 32) two_pieces<32>(from, bytes, to);
  else if (bytes > 16) two_pieces<16>(from, bytes, to);
  else if (bytes >= 8) two_pieces<8>(from, bytes, to);
  else
    for (int64_t j = 0; j < bytes; ++j) to[j] = from[j];
}

// The rows of an operand one after another, as its strides lead from one to the next.
template <typename T>
void copy_rows_of(const T* in, std::span<const int64_t> dims, const std::vector<int64_t>& strides, int64_t row, int64_t rows,
                  int64_t length, T* out) {
  int64_t index[kernels::kMaxSlots] = {};
  int64_t at = 0;
  for (size_t d = dims.size(); d-- > 0; row /= dims[d]) index[d] = row % dims[d], at += index[d] * strides[d];
  const int64_t along = strides.back();
  for (int64_t r = 0; r < rows; ++r) {
    const T* from = in + at;
    if (along == 0) {
      for (int64_t j = 0; j < length; ++j) *out++ = *from;
    } else if (along == 1) {
      copy_run(reinterpret_cast<const char*>(from), length * static_cast<int64_t>(sizeof(T)), reinterpret_cast<char*>(out));
      out += length;
    } else {
      for (int64_t j = 0; j < length; ++j) *out++ = from[j * along];
    }
    for (size_t d = dims.size(); d-- > 0;) {
      at += strides[d];
      if (++index[d] < dims[d]) break;
      at -= strides[d] * dims[d];
      index[d] = 0;
    }
  }
}

// Whether all rows are one long run.
bool runs_on(std::span<const int64_t> dims, const std::vector<int64_t>& strides, int64_t length) {
  int64_t next = length * strides.back();
  for (size_t d = dims.size(); d-- > 0; next *= dims[d]) {
    if (dims[d] != 1 && strides[d] != next) return false;
  }
  return true;
}

}  // namespace

void RowTape::run_rows(const StepContext& c, int64_t first, int64_t last, int64_t length, void* to, kernels::TapeType to_type,
                       bool own) const {
  const int64_t bytes = bytes_of(to_type);
  bool on[kernels::kMaxSlots] = {};
  int copied = 0;
  for (size_t i = 0; i < locations.size(); ++i) copied += !(on[i] = runs_on(dims, strides[i], length));
  const int64_t at_once = length >= kShort || copied > kMostCopied || dims.size() > kernels::kMaxSlots ? 1 : kAtOnce / length;
  alignas(64) char copies[kMostCopied][kAtOnce * 8];
  for (int64_t row = first; row < last; row += at_once) {
    const int64_t count = std::min(at_once, last - row);
    char* made = static_cast<char*>(to) + (row - first) * length * bytes;
    TapeOperand operands[kernels::kMaxSlots];
    if (own) operands[0] = {made, 1, to_type};
    int next = 0;
    for (size_t i = 0; i < locations.size(); ++i) {
      const auto* base = pointer<const char>(c, locations[i]);
      const int64_t size = bytes_of(types[i]), along = strides[i].back();
      TapeOperand& o = operands[i + (own ? 1 : 0)];
      if (on[i] || at_once == 1) {
        o = {base + (on[i] ? row * length * along : row_offset(dims, strides[i], row)) * size, along, types[i]};
        continue;
      }
      char* copy = copies[next++];
      o = {copy, 1, types[i]};
      // The same for every row (one a channel): copied once, for the longest call.
      if (row != first && std::all_of(strides[i].begin(), strides[i].end() - 1, [](int64_t s) { return s == 0; })) continue;
      const auto rows_of = [&]<typename T>(T*) {
        copy_rows_of(reinterpret_cast<const T*>(base), dims, strides[i], row, count, length, reinterpret_cast<T*>(copy));
      };
      if (size == 1) rows_of(static_cast<uint8_t*>(nullptr));
      else if (size == 2) rows_of(static_cast<uint16_t*>(nullptr));
      else if (size == 4) rows_of(static_cast<uint32_t*>(nullptr));
      else rows_of(static_cast<uint64_t*>(nullptr));
    }
    run_tape(tape, operands, made, to_type, count * length);
  }
}

void RowTape::run(const StepContext& c, int64_t row, int64_t length, float* to, bool own, int64_t from) const {
  TapeOperand operands[kernels::kMaxSlots];
  if (own) operands[0] = {to, 1, kernels::TapeType::f32};
  for (size_t i = 0; i < locations.size(); ++i) {
    const int64_t at = row_offset(dims, strides[i], row) + from * strides[i].back();
    operands[i + (own ? 1 : 0)] = {pointer<const char>(c, locations[i]) + at * bytes_of(types[i]), strides[i].back(), types[i]};
  }
  run_tape(tape, operands, to, kernels::TapeType::f32, length);
}

RowTape bind_row_tape(PlanBuilder& builder, kernels::Isa isa, std::span<const int> nodes, ValueId head, const Shape& whole, Layout layout,
                      Step& step) {
  RowTape t;
  auto built = build_tape(builder.graph(), nodes, head);
  if (!built) fail(Category::internal, "a tape that was planned does not fit");
  t.run_tape = kernels::run_tape(isa);
  t.tape = built->tape;
  const auto order = physical_order(static_cast<int>(whole.size()), layout);
  t.dims = permuted(whole, order);
  t.dims.pop_back();
  for (size_t i = head == kAbsent ? 0 : 1; i < built->sources.size(); ++i) {
    const TapeSource& s = built->sources[i];
    const Shape operand = s.shape(builder.view());
    Location at = s.locate(builder);
    if (s.value != kAbsent && at.layout != layout && operand == whole) at = builder.contiguous(s.value, layout);
    t.locations.push_back(at);
    t.types.push_back(s.type(builder.view()));
    t.strides.push_back(permuted(operand_strides(operand, at, whole), order));
    step.reads.push_back(at.buffer);
    step.bytes += static_cast<double>(element_count(operand)) * static_cast<double>(bytes_of(t.types.back()));
  }
  // A division a dim for each row and operand: what runs together is counted together. Not along the row.
  std::vector<int64_t> along;
  for (auto& s : t.strides) {
    along.push_back(s.back());
    s.pop_back();
  }
  join_dims(t.dims, t.strides);
  for (size_t i = 0; i < along.size(); ++i) t.strides[i].push_back(along[i]);
  step.flops += static_cast<double>(element_count(whole)) * static_cast<double>(t.tape.steps.size());
  return t;
}

}  // namespace lathe::lower
