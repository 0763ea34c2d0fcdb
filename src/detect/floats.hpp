// Numbers of an output as floats.
#pragma once

#include <vector>

#include "tensor/widen.hpp"

namespace lathe::detecting {

// Where they are, when they are floats; else a copy.
class Floats {
 public:
  explicit Floats(const Tensor& t) : held_(t) {
    if (t.dtype() != DType::f32) {
      const auto wide = widen<double>(t);
      own_.assign(wide.begin(), wide.end());
    }
    at_ = t.dtype() == DType::f32 ? t.as<float>().data() : own_.data();
  }
  Floats(const Floats&) = delete;
  Floats& operator=(const Floats&) = delete;
  const float* data() const { return at_; }

 private:
  Tensor held_;
  std::vector<float> own_;
  const float* at_;
};

}  // namespace lathe::detecting
