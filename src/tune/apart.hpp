// Work in a process of its own, so that what crashes there does not end this one.
#pragma once

#include <functional>
#include <stop_token>
#include <string>

namespace lathe::tuning {

struct Ending {
  enum class How { done, failed, crashed };
  How how = How::done;
  std::string why{};  // of a crash: the signal's name
};

// A copy of this process runs `f`; what it changes is lost. failed: it threw, or took longer than `limit` seconds, or was asked to stop.
// Of this process's threads the copy has but the caller's: `f` may use no crew, lane or lock that was there before.
// Throws Error (resource): no process can be made.
Ending apart(const std::function<void()>& f, double limit, const std::stop_token& stop);

}  // namespace lathe::tuning
