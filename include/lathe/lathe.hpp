// Everything a user of the library needs.
#pragma once

#include "lathe/archive.hpp"
#include "lathe/builder.hpp"
#include "lathe/dtype.hpp"
#include "lathe/error.hpp"
#include "lathe/formats.hpp"
#include "lathe/graph.hpp"
#include "lathe/judge.hpp"
#include "lathe/measure.hpp"
#include "lathe/op.hpp"
#include "lathe/parity.hpp"
#include "lathe/profile.hpp"
#include "lathe/program.hpp"
#include "lathe/report.hpp"
#include "lathe/shaping.hpp"
#include "lathe/sweep.hpp"
#include "lathe/tensor.hpp"
