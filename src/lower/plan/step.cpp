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

}  // namespace lathe::lower
