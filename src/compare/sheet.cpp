// Job sheets: TOML, every key checked.
#include <set>

#include "lathe/compare.hpp"
#include "sheets/keys.hpp"

namespace lathe {
namespace {

namespace fs = std::filesystem;
using sheets::Keys;

class Reader {
 public:
  explicit Reader(const fs::path& file) : sheet_(file) {}

  JobSheet read() {
    const toml::table& t = sheet_.table;
    JobSheet s;
    const Keys top{sheet_, t, "the sheet", {"title", "data", "calibration", "pictures", "measure", "limits", "variant"}};
    top.text("title", s.title);
    if (const auto* d = top.table("data")) {
      const Keys k{sheet_, *d, "[data]", {"path", "beside", "targets"}};
      s.data = k.path("path", true);
      s.beside = k.path("beside");
      s.targets = k.path("targets");
    }
    if (const auto* c = top.table("calibration")) {
      const Keys k{sheet_, *c, "[calibration]", {"path", "beside", "items"}};
      s.calibration = k.path("path", true);
      s.calibration_beside = k.path("beside");
      k.whole("items", s.calibration_items, 1, 1000000);
    }
    if (const auto* p = top.table("pictures")) s.labels = sheets::read_pictures(sheet_, *p, s.pictures);
    if (const auto* m = top.table("measure")) {
      const Keys k{sheet_, *m, "[measure]", {"seconds", "rounds"}};
      k.real("seconds", s.seconds, 0.05, 3600);
      int64_t rounds = s.rounds;
      k.whole("rounds", rounds, 3, 1000);
      s.rounds = static_cast<int>(rounds);
    }
    if (const auto* l = top.table("limits")) {
      const Keys k{sheet_, *l, "[limits]", {"lose_at_most", "latency_ms_at_most", "items_per_second_at_least", "megabytes_at_most"}};
      k.real("lose_at_most", s.lose_at_most, 0, 100);
      double ms = 0;
      k.real("latency_ms_at_most", ms, 0, 1e9);
      s.latency_at_most = ms / 1e3;
      k.real("items_per_second_at_least", s.items_per_second_at_least, 0, 1e12);
      k.real("megabytes_at_most", s.megabytes_at_most, 0, 1e9);
    }
    const toml::node* variants = t.get("variant");
    if (!variants) fail(Category::format, "{}: there is no [[variant]]: expected one for each way to ship the model", sheet_.file.string());
    const toml::array* list = variants->as_array();
    if (!list || list->empty()) sheet_.wrong(*variants, "'variant' is written [[variant]], once for each");
    std::set<std::string> names;
    for (const toml::node& node : *list) {
      if (!node.is_table()) sheet_.wrong(node, "'variant' is written [[variant]], once for each");
      s.variants.push_back(variant(*node.as_table()));
      if (!names.insert(s.variants.back().name).second)
        sheet_.wrong(node, fmt::format("two variants have the name '{}'", s.variants.back().name));
    }
    return s;
  }

 private:
  Variant variant(const toml::table& t) const {
    Variant v;
    const Keys k{sheet_,
                 t,
                 "[[variant]]",
                 {"name", "model", "narrow", "keep_as", "threads", "lanes", "batch", "isa", "recipes", "pin", "shapes", "states",
                  "positions", "held"}};
    k.text("name", v.name);
    if (v.name.empty()) fail(Category::format, "{}: [[variant]] has no 'name'", sheet_.place(t.source()));
    v.model = k.path("model", true);
    v.keep_as = k.path("keep_as");
    int64_t threads = v.threads, lanes = v.lanes;
    k.whole("threads", threads, 1, 1024);
    k.whole("lanes", lanes, 1, 256);
    k.whole("batch", v.batch, 1, int64_t{1} << 31);
    v.threads = static_cast<int>(threads), v.lanes = static_cast<int>(lanes);
    k.text("states", v.states);
    k.whole("positions", v.positions, 0, int64_t{1} << 40);
    k.whole("held", v.held, 0, int64_t{1} << 40);
    for (const char* key : {"positions", "held"}) {
      if (k.get(key) && v.states.empty()) sheet_.wrong(*k.get(key), fmt::format("'{}' goes with 'states'", key));
    }
    v.recipes = k.path("recipes");
    for (const std::string& pin : k.texts("pin")) {
      try {
        v.pins.push_back(read_pin(pin));
      } catch (const Error& e) {
        sheet_.wrong(*k.get("pin"), e.what());
      }
    }
    if (k.get("isa")) v.isa = k.word("isa", "", {"scalar", "sse4", "avx2", "avx512", "amx", "neon"});
    if (const auto* shapes = k.table("shapes")) {
      for (const auto& [key, node] : *shapes) {
        Shape& shape = v.shapes[std::string(key.str())];
        if (!node.is_array()) sheet_.wrong(node, fmt::format("the shape of '{}' is a list of whole numbers", std::string(key.str())));
        for (const toml::node& e : *node.as_array()) {
          const auto n = e.is_integer() ? e.value<int64_t>() : std::nullopt;
          if (!n || *n < 0) sheet_.wrong(e, fmt::format("the shape of '{}' is a list of whole numbers", std::string(key.str())));
          shape.push_back(*n);
        }
      }
    }
    if (const auto* n = k.table("narrow")) v.narrow = narrow(*n);
    if (!v.keep_as.empty() && !v.narrow) sheet_.wrong(*k.get("keep_as"), "'keep_as' goes with 'narrow': what is not made is not kept");
    return v;
  }

  NarrowPlan narrow(const toml::table& t) const {
    NarrowPlan p;
    const Keys k{sheet_,
                 t,
                 "'narrow'",
                 {"weights", "activations", "block", "rounding", "range", "percentile", "equalise", "correct_bias", "leave",
                  "cosine_at_least", "lose_at_most"}};
    const std::string activations = k.get("activations") ? k.word("activations", "", {"u8", "i8", "f16", "bf16"}) : "";
    if (!activations.empty()) p.activations = *parse_dtype(activations);
    const bool halves = activations == "f16" || activations == "bf16";
    p.weights = *parse_dtype(k.word("weights", halves ? activations : "i8", {"f16", "bf16", "i8", "u8", "i4", "u4"}));
    if (halves && p.weights != p.activations)
      k.expected(*k.get("weights"), "weights", fmt::format("{} with such activations", activations));
    if (!activations.empty() && !halves && p.weights != DType::i8) k.expected(*k.get("weights"), "weights", "i8 with activations on bytes");
    k.whole("block", p.block, 16, 4096);
    if (k.get("rounding"))
      p.rounding = k.word("rounding", "", {"nearest", "compensated"}) == "nearest" ? Rounding::nearest : Rounding::compensated;
    const std::string range = k.word("range", "squares", {"extremes", "percentile", "squares", "divergence"});
    p.bytes.range = range == "extremes"     ? RangeChoice::extremes
                    : range == "percentile" ? RangeChoice::percentile
                    : range == "divergence" ? RangeChoice::divergence
                                            : RangeChoice::squares;
    k.real("percentile", p.bytes.percentile, 50, 100);
    k.flag("equalise", p.bytes.equalise);
    k.flag("correct_bias", p.bytes.correct_bias);
    p.leave = k.texts("leave");
    k.real("cosine_at_least", p.cosine_at_least, 0, 1);
    k.real("lose_at_most", p.lose_at_most, 0, 100);
    const bool bytes = !activations.empty() && !halves;
    for (const char* key : {"range", "percentile", "equalise", "correct_bias", "cosine_at_least", "lose_at_most"}) {
      if (k.get(key) && !bytes) sheet_.wrong(*k.get(key), fmt::format("'{}' goes with activations = \"u8\" or \"i8\"", key));
    }
    return p;
  }

  sheets::Sheet sheet_;
};

}  // namespace

JobSheet read_job_sheet(const fs::path& file) { return Reader(file).read(); }

std::string example_job_sheet(const fs::path& model, const Graph& graph) {
  const bool pictures = graph.inputs.size() == 1 && graph.values[static_cast<size_t>(graph.inputs[0])].dims &&
                        graph.values[static_cast<size_t>(graph.inputs[0])].dims->size() == 4;
  std::string shapes;
  for (ValueId v : graph.inputs) {
    const Value& value = graph.values[static_cast<size_t>(v)];
    if (value.composite || known_shape(value.dims)) continue;
    std::string sizes;
    for (const Dim& d : value.dims.value_or(Dims())) sizes += fmt::format("{}{}", sizes.empty() ? "" : ", ", d.known() ? d.value : 1);
    shapes += fmt::format("{}\"{}\" = [{}]", shapes.empty() ? "" : ", ", value.name, sizes);
  }
  const std::string name = fs::path(model).string();
  const std::string quoted = "\"" + name + "\"";
  std::string t = fmt::format(
      "# Ways to ship {0}, side by side: lathe compare THIS_FILE\n"
      "# Paths are seen from the folder of this file. docs/job-sheet.md lists every key.\n"
      "title = \"Which form of {1} ships\"\n\n"
      "# Labelled items that accuracy is measured on: a folder with a folder for each class, a CSV of file and label,\n"
      "# or arrays (npz, npy) with targets. Without them there is speed alone.\n"
      "#[data]\n#path = \"labels.csv\"\n#beside = \"pictures\"\n\n"
      "# Items that show what values are like, for variants on bytes; not those of [data].\n"
      "#[calibration]\n#path = \"calibration\"\n#items = 100\n\n",
      name, fs::path(model).filename().string());
  if (pictures)
    t += "# What is done to pictures; what is not said here, the model's metadata may say.\n#[pictures]\n#fit = \"stretch\"\n#mean = [0, "
         "0, 0]\n#scale = 1\n\n";
  t += "[measure]\nseconds = 2     # each variant is timed for, over all rounds\nrounds = 15     # in each, all variants by turns\n\n"
       "# What a variant must hold; the exit code is 1 when one does not.\n#[limits]\n#lose_at_most = 0.5         # points of accuracy, "
       "against the first variant\n"
       "#latency_ms_at_most = 5.0\n\n"
       "# The first variant is what the others are compared with.\n";
  const std::string more = shapes.empty() ? "" : fmt::format("#shapes = {{ {} }}\n", shapes);
  t += fmt::format("[[variant]]\nname = \"f32\"\nmodel = {}\nthreads = 1\n{}\n", quoted, more);
  t += fmt::format("[[variant]]\nname = \"f16\"\nmodel = {}\nnarrow = {{ activations = \"f16\" }}\n\n", quoted);
  t += fmt::format("[[variant]]\nname = \"i8 weights\"\nmodel = {}\nnarrow = {{ weights = \"i8\" }}\n\n", quoted);
  t += fmt::format(
      "# With [calibration]:\n#[[variant]]\n#name = \"bytes\"\n#model = {}\n#narrow = {{ activations = \"u8\", cosine_at_least = 0.999 "
      "}}\n",
      quoted);
  return t;
}

}  // namespace lathe
