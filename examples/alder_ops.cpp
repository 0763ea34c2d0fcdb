// The same operator as a library that the tool loads: lathe run MODEL --ops libalder_ops.so
#include "contrast_op.hpp"

extern "C" void lathe_register_ops() { lathe::register_op(alder::contrast_op()); }
