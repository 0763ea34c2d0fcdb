// One box for each thing.
#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>

#include "kernels/suppression.hpp"
#include "lathe/detect.hpp"

namespace lathe {
namespace {

// Boxes that were kept, as the kernel reads them.
struct Kept {
  std::vector<float> left, top, right, bottom;
  void add(const Box& b) {
    left.push_back(static_cast<float>(b.x)), top.push_back(static_cast<float>(b.y));
    right.push_back(static_cast<float>(b.x + b.width)), bottom.push_back(static_cast<float>(b.y + b.height));
  }
};

std::vector<Box> by_overlap(const std::vector<Box>& boxes, const SuppressOptions& o) {
  const auto overlapped = kernels::overlapped(kernels::best());
  std::vector<Kept> classes;
  std::map<int64_t, size_t> where;  // labels may be any numbers; those of models are small
  std::vector<size_t> small;
  const auto place = [&](int64_t label) {
    constexpr int64_t kSmall = 4096;
    if (o.how != Suppression::by_class) label = 0;
    if (label >= 0 && label < kSmall) {
      if (label >= static_cast<int64_t>(small.size())) small.resize(static_cast<size_t>(label) + 1, 0);
      size_t& at = small[static_cast<size_t>(label)];  // 1 + its place
      if (at == 0) classes.emplace_back(), at = classes.size();
      return at - 1;
    }
    const auto [it, fresh] = where.try_emplace(label, classes.size());
    if (fresh) classes.emplace_back();
    return it->second;
  };
  std::vector<Box> out;
  for (const Box& b : boxes) {
    if (static_cast<int64_t>(out.size()) >= o.most) break;
    Kept& k = classes[place(b.label)];
    const kernels::Corners corners{k.left.data(), k.top.data(), k.right.data(), k.bottom.data()};
    if (overlapped(corners, static_cast<int64_t>(k.left.size()), static_cast<float>(b.x), static_cast<float>(b.y),
                   static_cast<float>(b.x + b.width), static_cast<float>(b.y + b.height), static_cast<float>(o.most_overlap)))
      continue;
    k.add(b);
    out.push_back(b);
  }
  return out;
}

// By falling score, of equal ones the earlier first: places are sorted, which are smaller than boxes.
std::vector<Box> in_order(const std::vector<Box>& boxes) {
  std::vector<std::pair<double, uint32_t>> order;
  order.reserve(boxes.size());
  for (size_t i = 0; i < boxes.size(); ++i) order.emplace_back(-boxes[i].score, static_cast<uint32_t>(i));
  std::ranges::sort(order);
  std::vector<Box> out;
  out.reserve(boxes.size());
  for (const auto& [score, i] : order) out.push_back(boxes[i]);
  return out;
}

// Scores fall instead of boxes: after each that is taken, those of its class that it overlaps lose.
std::vector<Box> softly(std::vector<Box> boxes, const SuppressOptions& o) {
  std::vector<Box> out;
  std::vector<char> taken(boxes.size(), 0);
  while (static_cast<int64_t>(out.size()) < o.most) {
    size_t best = boxes.size();
    for (size_t i = 0; i < boxes.size(); ++i) {
      if (!taken[i] && (best == boxes.size() || boxes[i].score > boxes[best].score)) best = i;
    }
    if (best == boxes.size() || boxes[best].score < o.least_score) break;
    taken[best] = 1;
    out.push_back(boxes[best]);
    for (size_t i = 0; i < boxes.size(); ++i) {
      if (taken[i] || boxes[i].label != boxes[best].label) continue;
      const double both = overlap(boxes[i], boxes[best]);
      boxes[i].score *= std::exp(-both * both / o.softness);
    }
  }
  return out;
}

}  // namespace

double overlap(const Box& a, const Box& b) {
  const double w = std::min(a.x + a.width, b.x + b.width) - std::max(a.x, b.x),
               h = std::min(a.y + a.height, b.y + b.height) - std::max(a.y, b.y);
  if (w <= 0 || h <= 0) return 0;
  return w * h / (a.width * a.height + b.width * b.height - w * h);
}

std::vector<Box> suppress(std::vector<Box> boxes, const SuppressOptions& o) {
  std::erase_if(boxes, [](const Box& b) { return std::isnan(b.score); });
  boxes = in_order(boxes);
  if (o.how == Suppression::soft) return softly(std::move(boxes), o);
  if (o.how != Suppression::none) return by_overlap(boxes, o);
  if (static_cast<int64_t>(boxes.size()) > o.most) boxes.resize(static_cast<size_t>(std::max<int64_t>(0, o.most)));
  return boxes;
}

std::vector<Box> boxes_in_picture(const std::vector<Box>& boxes, const Placement& p) {
  std::vector<Box> out;
  for (const Box& b : boxes) {
    const auto x = [&](double v) { return std::clamp((v - p.left) / p.scale_x, 0.0, static_cast<double>(p.width)); };
    const auto y = [&](double v) { return std::clamp((v - p.top) / p.scale_y, 0.0, static_cast<double>(p.height)); };
    const double left = x(b.x), top = y(b.y);
    const Box in{b.label, left, top, x(b.x + b.width) - left, y(b.y + b.height) - top, b.score};
    if (in.width > 0 && in.height > 0) out.push_back(in);
  }
  return out;
}

std::vector<Box> detect(const Answers& outputs, const DetectForm& form, int64_t item, int64_t input_height, int64_t input_width,
                        const Placement& placement, const DetectOptions& options) {
  std::vector<Box> found = candidates(outputs, form, item, input_height, input_width, options.least_score);
  SuppressOptions how = options.suppress;
  if (form.kind == DetectForm::Kind::chosen || form.kind == DetectForm::Kind::picked) how.how = Suppression::none;
  return boxes_in_picture(suppress(std::move(found), how), placement);
}

}  // namespace lathe
