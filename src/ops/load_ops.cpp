// Ops from a library of the user's: apart, since programs that are linked statically load none.
#include "base/library.hpp"
#include "lathe/op.hpp"

namespace lathe {

void load_ops(const std::string& path) { call_library(path, "ops", "lathe_register_ops", "register_op"); }

}  // namespace lathe
