// Options about boxes in a model's outputs.
#include "detect.hpp"

namespace lathe::cli {

void DetectFlags::add_to(CLI::App& app, double least) {
  least_score = least;
  app.add_option("--detect", detect,
                 "What the outputs say of boxes, key by key, as docs/pictures.md lists them: box=centre, outputs=boxes,scores, ... (the "
                 "model's metadata, or what names, shapes and values leave as the only reading)")
      ->type_name("KEY=VALUE");
  app.add_option("--least-score", least_score, fmt::format("Boxes with less are left out ({})", least))->check(CLI::Range(0.0, 1.0));
  app.add_option("--suppress", suppress,
                 "Of boxes that overlap the best stays: by class, across all classes, soft (scores fall instead), or none (class)")
      ->check(CLI::IsMember({"class", "all", "soft", "none"}));
  app.add_option("--overlap", most_overlap, "Intersection over union above which boxes overlap (0.5)")->check(CLI::Range(0.0, 1.0));
  app.add_option("--softness", softness, "Of --suppress soft: a box that overlaps by o keeps exp(-o*o/S) of its score (0.5)")
      ->check(CLI::Range(0.001, 1000.0))
      ->type_name("S");
  app.add_option("--most-boxes", most, "Boxes of a picture, the best first (300)")->check(CLI::Range(int64_t{1}, int64_t{1000000}));
}

DetectForm DetectFlags::form() const {
  DetectForm f;
  for (const std::string& text : detect) {
    const size_t at = text.find('=');
    if (at == std::string::npos || at == 0) throw UsageError(fmt::format("--detect: '{}' is not KEY=VALUE", text));
    const std::string key = text.substr(0, at), value = text.substr(at + 1);
    Json json = Json::array();
    const bool list = key == "outputs" || key == "anchors";
    for (const std::string& part : list ? split(value, ',') : std::vector<std::string>{value}) {
      const Json one = Json::parse(part, nullptr, false);
      json.push_back(key == "outputs" || one.is_discarded() ? Json(part) : one);
    }
    try {
      set_form_key(f, key, list ? json.dump() : json[0].dump());
    } catch (const Error& e) {
      throw UsageError(fmt::format("--detect: {}", e.what()));
    }
  }
  return f;
}

DetectOptions DetectFlags::options() const {
  DetectOptions o;
  o.least_score = least_score;
  o.suppress = {suppress == "class"  ? Suppression::by_class
                : suppress == "all"  ? Suppression::across_classes
                : suppress == "soft" ? Suppression::soft
                                     : Suppression::none,
                most_overlap, most, least_score, softness};
  return o;
}

}  // namespace lathe::cli
