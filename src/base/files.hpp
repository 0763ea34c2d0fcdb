// Whole-file reading, and writing that never leaves half a file.
#pragma once

#include <filesystem>
#include <string>
#include <string_view>

namespace lathe {

// Throws Error (resource when it cannot be opened or read; the sentence names the path and the reason).
std::string read_file(const std::filesystem::path& path);
// Where writing to `path` goes: links are followed, so that they stay. Throws Error (resource) for what is neither a plain file nor free:
// a folder, a device.
std::filesystem::path target_of(const std::filesystem::path& path);
// Writes to a temporary file beside `path`, flushes, renames; a device or pipe is written as it is. Throws Error (resource).
void write_file(const std::filesystem::path& path, std::string_view bytes);

}  // namespace lathe
