// Under load: requests that arrive whether or not anybody is free, served by lanes. Waiting and service apart, to the tail.
#pragma once

#include <functional>
#include <vector>

#include "lathe/measure.hpp"
#include "lathe/program.hpp"

namespace lathe {

enum class Arrivals {
  poisson,  // independent requests: gaps are exponential
  even,     // a clock
};

struct ArrivalOptions {
  Arrivals arrivals = Arrivals::poisson;
  int lanes = 1;             // each serves one request at a time; first come, first served
  double seconds = 5;        // arrivals are made for so long,
  int64_t requests = 0;      // and no more than so many; 0: as many as come
  double drain_seconds = 5;  // what still waits when the arrivals end is served for so long, then counted as not served
  uint64_t seed = 1;         // of the gaps
  RunOptions run{};
  std::function<void(double share)> progress{};  // from another thread
};

struct ArrivalResult {
  double rate = 0;     // requests a second, as asked
  double offered = 0;  // as they came
  double served = 0;   // a second, from the first arrival to the last answer
  int64_t requests = 0, unserved = 0;
  // Of a request: from its arrival until a lane took it; from then until its answer; both together. Arrival is when it was due, so that a
  // stall counts for everybody who would have come meanwhile.
  Latency waiting, service, total;
  double busy = 0;      // share of the lanes' time spent on service
  int64_t longest = 0;  // requests waiting at once, at most
  bool kept_up =
      true;  // served as fast as they came: no request was left, and the line at the end was no longer than the lanes serve at once
};

// Serves requests for these inputs at `rate` a second. Each lane has `threads` threads and has run before the first arrival. Throws Error:
// value (rate, lanes), or what a run throws.
ArrivalResult under_load(const Program& program, int threads, const std::vector<Tensor>& inputs, double rate,
                         const ArrivalOptions& options = {});

struct HighestRate {
  double rate = 0;                   // requests a second; 0: not even a lone request keeps the limit
  double limit = 0;                  // seconds that 99 of 100 requests must stay below
  std::vector<ArrivalResult> tried;  // in the order tried
};

// The highest rate at which 99 of 100 requests are answered within `limit` seconds: by doubling, then by halving the interval to within
// 5 %. Each rate is tried with `options`.
HighestRate highest_rate(const Program& program, int threads, const std::vector<Tensor>& inputs, double limit,
                         const ArrivalOptions& options = {});

}  // namespace lathe
