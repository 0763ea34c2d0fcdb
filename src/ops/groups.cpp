// The one table of ops' files. Apart from the registry, so that a program which runs one archive alone may have another table
// (lathe/static_kit.hpp).
#include <array>

#include "base/gives_way.hpp"
#include "ops/support.hpp"

namespace lathe::ops {

LATHE_GIVES_WAY std::span<const OpGroup> op_groups() {
  static constexpr std::array kAll{
      OpGroup{"elementwise", add_elementwise},
      OpGroup{"contractions", add_contractions},
      OpGroup{"normalisations", add_normalisations},
      OpGroup{"pooling", add_pooling},
      OpGroup{"reductions", add_reductions},
      OpGroup{"movement", add_movement},
      OpGroup{"resize", add_resize},
      OpGroup{"creation", add_creation},
      OpGroup{"control", add_control},
      OpGroup{"sequences", add_sequences},
      OpGroup{"indexing", add_indexing},
      OpGroup{"recurrent", add_recurrent},
      OpGroup{"quantised", add_quantised},
      OpGroup{"attention", add_attention},
      OpGroup{"vision", add_vision},
      OpGroup{"signal", add_signal},
      OpGroup{"random", add_random},
      OpGroup{"text", add_text},
      OpGroup{"losses", add_losses},
      OpGroup{"linear_algebra", add_linear_algebra},
      OpGroup{"companion", add_companion},
  };
  return kAll;
}

}  // namespace lathe::ops
