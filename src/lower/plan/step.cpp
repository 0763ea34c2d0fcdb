#include "lower/plan/step.hpp"

namespace lathe::lower {

std::string_view name_of(StepKind kind) {
  switch (kind) {
    case StepKind::convolution: return "convolution";
    case StepKind::transposed_convolution: return "transposed convolution";
    case StepKind::product: return "product";
    case StepKind::byte_convolution: return "byte convolution";
    case StepKind::byte_product: return "byte product";
    case StepKind::tape: return "tape";
    case StepKind::softmax: return "softmax";
    case StepKind::normalisation: return "normalisation";
    case StepKind::reduction: return "reduction";
    case StepKind::max_pool: return "max pool";
    case StepKind::average_pool: return "average pool";
    case StepKind::copy: return "copy";
    case StepKind::layout: return "layout";
    case StepKind::resample: return "resample";
    case StepKind::selection: return "selection";
    case StepKind::attention: return "attention";
    case StepKind::rotary: return "rotary";
    case StepKind::recurrent: return "recurrent";
    case StepKind::custom: return "custom";
    case StepKind::control: return "control";
    case StepKind::plain: return "plain";
    case StepKind::side_by_side: return "side by side";
  }
  return "?";
}

void copy_shared(const StepContext& c, const void* from, void* to, int64_t bytes) {
  constexpr int64_t kPiece = 1 << 20;
  c.workers.each((bytes + kPiece - 1) / kPiece, [&](int64_t piece, int) {
    const int64_t at = piece * kPiece;
    std::memcpy(static_cast<char*>(to) + at, static_cast<const char*>(from) + at, static_cast<size_t>(std::min(kPiece, bytes - at)));
  });
}

}  // namespace lathe::lower
