// The page of a model: a template, its style and scripts, and the facts that the scripts draw.
#include <string_view>

#include "base/fail.hpp"
#include "lathe/report.hpp"
#include "report/markup.hpp"

namespace lathe {

// From src/report/page/ and the charts library, as they were when this was built.
extern const std::string_view kPageTemplate, kPageStyle, kPageScript, kPageCharts;

namespace {

// JSON inside a script element: no text in it may end the element or begin a comment.
std::string inside_script(std::string_view json) {
  std::string out;
  out.reserve(json.size());
  for (char c : json) {
    if (c == '<') out += "\\u003c";
    else if (c == '>') out += "\\u003e";
    else if (c == '&') out += "\\u0026";
    else out += c;
  }
  return out;
}

}  // namespace

std::string report_page(const std::string& title, const std::string& facts_json) {
  const std::string facts = inside_script(facts_json), name = as_markup(title);
  const std::pair<std::string_view, std::string_view> parts[]{
      {"{{title}}", name}, {"{{style}}", kPageStyle}, {"{{charts}}", kPageCharts}, {"{{script}}", kPageScript}, {"{{facts}}", facts}};
  std::string out;
  std::string_view rest = kPageTemplate;
  while (!rest.empty()) {
    size_t nearest = std::string_view::npos;
    const std::pair<std::string_view, std::string_view>* found = nullptr;
    for (const auto& part : parts) {
      if (const size_t at = rest.find(part.first); at < nearest) nearest = at, found = &part;
    }
    out += rest.substr(0, nearest);
    if (!found) break;
    out += found->second;
    rest.remove_prefix(nearest + found->first.size());
  }
  return out;
}

}  // namespace lathe
