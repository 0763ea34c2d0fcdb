// Shared libraries of the user's that register something when they are loaded.
#pragma once

#include <string>

namespace lathe {

// Loads the library and calls its `extern "C" void FUNCTION()`; it stays loaded, its symbols to itself. `what` names what it holds
// ("ops"), `registers` the function of ours it should call. Throws Error (value) when it cannot be loaded or has no such function.
void call_library(const std::string& path, const char* what, const char* function, const char* registers);

}  // namespace lathe
