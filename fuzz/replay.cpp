// Runs a fuzz target without libFuzzer, so that any compiler's sanitizers do: every file given, then RUNS changed ones from a fixed seed.
// What ends the process is kept. Usage: TARGET [-seed=N] [-runs=N] [-longest=BYTES] [-timeout=SECONDS] [-keep=FOLDER] [FILE_OR_FOLDER..]
#include <fcntl.h>
#include <sanitizer/common_interface_defs.h>
#include <signal.h>
#include <unistd.h>

#include <algorithm>
#include <charconv>
#include <chrono>
#include <cstdint>
#include <cstdio>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <iterator>
#include <random>
#include <string>
#include <vector>

extern "C" int LLVMFuzzerTestOneInput(const uint8_t* data, size_t size);
extern "C" size_t LLVMFuzzerMutate(uint8_t* data, size_t size, size_t most);
// A target may have changes of its own; else bytes are changed.
extern "C" __attribute__((weak)) size_t LLVMFuzzerCustomMutator(uint8_t* data, size_t size, size_t most, unsigned) {
  return LLVMFuzzerMutate(data, size, most);
}

namespace {

std::mt19937 chance;

// What runs now, for the handlers, which may not allocate.
const std::string* current = nullptr;
std::string kept_as;
unsigned timeout = 30;

void keep() {
  if (current == nullptr) return;
  const int file = open(kept_as.c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0644);
  if (file < 0 || write(file, current->data(), current->size()) < 0) return;
  close(file);
  const char text[] = "\nthe input that did it: ";
  (void)!write(2, text, sizeof text - 1);
  (void)!write(2, kept_as.data(), kept_as.size());
  (void)!write(2, "\n", 1);
}

void ended(int signal) {
  if (signal == SIGALRM) {
    const char text[] = "an input took too long";
    (void)!write(2, text, sizeof text - 1);
  }
  keep();
  _exit(1);
}

void run(const std::string& input) {
  current = &input;
  alarm(timeout);
  LLVMFuzzerTestOneInput(reinterpret_cast<const uint8_t*>(input.data()), input.size());
  alarm(0);
  current = nullptr;
}

}  // namespace

// The changes to bytes that the targets' own mutators fall back to.
extern "C" size_t LLVMFuzzerMutate(uint8_t* data, size_t size, size_t most) {
  std::string bytes(reinterpret_cast<char*>(data), size);
  for (unsigned times = 1 + chance() % 4; times > 0; --times) {
    const size_t at = bytes.empty() ? 0 : chance() % bytes.size(), count = std::min<size_t>(1 + chance() % 16, bytes.size() - at);
    switch (bytes.empty() ? 1 : chance() % 5) {
      case 0: bytes[at] = static_cast<char>(bytes[at] ^ (1 << chance() % 8)); break;
      case 1: bytes.insert(at, 1, static_cast<char>(chance())); break;
      case 2: bytes.erase(at, count); break;
      case 3: bytes.insert(chance() % bytes.size(), bytes.substr(at, count)); break;
      default: bytes[at] = static_cast<char>(chance());
    }
  }
  bytes.resize(std::min(bytes.size(), most));
  std::memcpy(data, bytes.data(), bytes.size());
  return bytes.size();
}

int main(int argc, char** argv) {
  std::string folder = ".";
  unsigned seed = 1, runs = 0, longest = 4096;
  std::vector<std::filesystem::path> files;
  for (int i = 1; i < argc; ++i) {
    const std::string_view word = argv[i];
    const auto number = [&](std::string_view option, unsigned& to) {
      if (!word.starts_with(option)) return false;
      const auto [end, code] = std::from_chars(word.data() + option.size(), word.data() + word.size(), to);
      if (code != std::errc() || end != word.data() + word.size())
        std::fprintf(stderr, "%s: a whole number is expected\n", argv[i]), _exit(2);
      return true;
    };
    if (number("-seed=", seed) || number("-runs=", runs) || number("-longest=", longest) || number("-timeout=", timeout)) continue;
    if (word.starts_with("-keep=")) {
      folder = word.substr(6);
    } else if (word.starts_with("-")) {
      std::fprintf(stderr, "%s: no such option; there are -seed= -runs= -longest= -timeout= -keep=\n", argv[i]);
      return 2;
    } else if (std::filesystem::is_directory(word)) {
      for (const auto& entry : std::filesystem::recursive_directory_iterator(word))
        if (entry.is_regular_file()) files.push_back(entry.path());
    } else if (std::filesystem::exists(word)) {
      files.emplace_back(word);
    } else {
      std::fprintf(stderr, "%s: no such file or folder\n", argv[i]);
      return 2;
    }
  }
  std::sort(files.begin(), files.end());
  kept_as = folder + "/" + std::filesystem::path(argv[0]).filename().string() + "-" + std::to_string(seed) + "-" + std::to_string(runs);
  __sanitizer_set_death_callback(keep);
  for (int s : {SIGALRM, SIGILL, SIGABRT, SIGTRAP}) signal(s, ended);
  const auto start = std::chrono::steady_clock::now();
  std::vector<std::string> pool;
  for (const auto& path : files) {
    std::ifstream in(path, std::ios::binary);
    pool.emplace_back(std::istreambuf_iterator<char>(in), std::istreambuf_iterator<char>());
    run(pool.back());
  }
  if (pool.empty()) pool.emplace_back();
  chance.seed(seed);
  // A changed model takes the place of an older change now and then: changes pile up, and the given files stay.
  const size_t given = pool.size();
  for (unsigned i = 0; i < runs; ++i) {
    const std::string& from = pool[chance() % pool.size()];
    std::vector<uint8_t> bytes(from.begin(), from.begin() + static_cast<std::ptrdiff_t>(std::min<size_t>(from.size(), longest)));
    const size_t size = bytes.size();
    bytes.resize(longest);
    const size_t changed = LLVMFuzzerCustomMutator(bytes.data(), size, longest, chance());
    std::string input(reinterpret_cast<char*>(bytes.data()), changed);
    run(input);
    if (chance() % 4) continue;
    if (pool.size() < 2 * given) pool.push_back(std::move(input));
    else pool[given + chance() % given] = std::move(input);
  }
  std::printf("%s: %zu files, then %u changed ones from seed %u, in %.0f s\n", std::filesystem::path(argv[0]).filename().c_str(),
              files.size(), runs, seed, std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count());
}
