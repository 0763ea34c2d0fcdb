// A file of tolerances: TOML, every key checked.
#include "lathe/parity.hpp"
#include "sheets/keys.hpp"

namespace lathe {
namespace {

using sheets::Keys;

std::optional<Tolerance> tolerance_of(const Keys& k) {
  Tolerance t{Tolerance::kByDType, Tolerance::kByDType, 0};
  k.real("absolute", t.absolute, 0, 1e300);
  k.real("relative", t.relative, 0, 1e300);
  k.whole("ulp", t.ulp, 0, int64_t{1} << 62);
  const bool any = k.get("absolute") || k.get("relative") || k.get("ulp");
  return any ? std::optional(t) : std::nullopt;
}

}  // namespace

Tolerances read_tolerances(const std::filesystem::path& path) {
  const sheets::Sheet sheet(path);
  Tolerances out;
  const Keys top{sheet, sheet.table, "the file", {"absolute", "relative", "ulp", "dtype", "value"}};
  out.all = tolerance_of(top);
  const auto each = [&](const char* key, const auto& take) {
    const toml::table* tables = top.table(key);
    if (!tables) return;
    for (const auto& [name, node] : *tables) {
      if (!node.is_table())
        sheet.wrong(node, fmt::format("expected a table: [{}.{}] with absolute, relative or ulp", key, std::string(name.str())));
      const Keys k{sheet, *node.as_table(), fmt::format("[{}.{}]", key, std::string(name.str())), {"absolute", "relative", "ulp"}};
      const auto t = tolerance_of(k);
      if (!t) sheet.wrong(node, fmt::format("[{}.{}] says nothing: expected absolute, relative or ulp", key, std::string(name.str())));
      take(std::string(name.str()), *t, node);
    }
  };
  each("dtype", [&](const std::string& name, const Tolerance& t, const toml::node& node) {
    if (const auto dtype = parse_dtype(name)) {
      out.by_dtype[*dtype] = t;
      return;
    }
    sheet.wrong(node, fmt::format("'{}' is no dtype; they are named f32, f16, bf16, f64, i64, u8 and so on", name));
  });
  each("value", [&](const std::string& name, const Tolerance& t, const toml::node&) { out.by_name[name] = t; });
  return out;
}

}  // namespace lathe
