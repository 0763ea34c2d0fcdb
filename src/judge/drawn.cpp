// Models that draw, on items with what is expected.
#include <algorithm>
#include <cmath>
#include <cstring>
#include <map>

#include "base/fail.hpp"
#include "detect/masks.hpp"
#include "judge/answer_bytes.hpp"
#include "lathe/judge_pictures.hpp"
#include "tensor/widen.hpp"

namespace lathe {
namespace {

namespace fs = std::filesystem;

struct Size {
  int64_t height = 0, width = 0;
};

// Items that run with the same shapes.
struct Group {
  std::vector<Shape> shapes;
  PictureOptions picture;
  std::vector<size_t> items;
};

// One group; or, of a model that takes pictures at their own sizes, one for each size. A file whose size cannot be read goes with the
// first: it is named when it is loaded.
std::vector<Group> groups_of(const Program& program, const DrawnData& data, const std::vector<Shape>& shapes, const PictureSettings& how) {
  std::vector<Group> out;
  if (data.kind == Drawn::tokens || !own_size(how, program)) {
    out.push_back({shapes, data.kind == Drawn::tokens ? PictureOptions() : picture_options(how, program, shapes.at(0)), {}});
    for (size_t i = 0; i < data.items.items; ++i) out[0].items.push_back(i);
    return out;
  }
  const int64_t multiple = size_multiple(program.metadata());
  std::map<std::pair<int64_t, int64_t>, std::vector<size_t>> by_size;
  std::vector<size_t> unknown;
  for (size_t i = 0; i < data.items.items; ++i) {
    try {
      by_size[picture_size(data.items.files[i].file)].push_back(i);
    } catch (const Error&) {
      unknown.push_back(i);
    }
  }
  for (auto& [size, items] : by_size) {
    const PictureWay way = picture_way(how, program, size.first, size.second, multiple);
    Shape shape = way.shape;
    shape[0] = shapes.at(0).at(0);
    out.push_back({{shape}, way.options, std::move(items)});
  }
  if (out.empty()) out.push_back({shapes, picture_options(how, program, shapes.at(0)), {}});
  out[0].items.insert(out[0].items.end(), unknown.begin(), unknown.end());
  return out;
}

void add(Shared& to, const Shared& more) {
  to.items.resize(std::max(to.items.size(), more.items.size()));
  for (size_t r = 0; r < more.items.size(); ++r) to.items[r] += more.items[r];
  to.resumed += more.resumed, to.again += more.again;
  for (const int r : more.silent) {
    if (std::ranges::find(to.silent, r) == to.silent.end()) to.silent.push_back(r);
  }
}

// Boxes found that are right at 0.5, of those found and expected.
double share_of_boxes(const BoxAnswer& a) {
  std::vector<char> taken(a.expected.size(), 0);
  std::vector<Box> found = a.found;
  std::ranges::stable_sort(found, std::greater<>(), &Box::score);
  double right = 0;
  for (const Box& b : found) {
    double best = 0.5;
    size_t which = a.expected.size();
    for (size_t e = 0; e < a.expected.size(); ++e) {
      const double o = taken[e] || a.expected[e].label != b.label ? 0 : overlap(b, a.expected[e]);
      if (o >= best) best = o, which = e;
    }
    if (which < a.expected.size()) taken[which] = 1, ++right;
  }
  const double all = static_cast<double>(a.found.size() + a.expected.size()) - right;
  return all > 0 ? right / all : 1;
}

}  // namespace

DrawnData read_drawn(Drawn kind, const fs::path& data, const fs::path& targets, const fs::path& beside, std::vector<std::string> classes) {
  DrawnData d;
  d.kind = kind;
  d.classes = std::move(classes);
  const fs::path folder = beside.empty() ? data.parent_path() : beside;
  if (!fs::exists(data)) fail(Category::value, "{}: no such file or folder", data.string());
  if (kind == Drawn::tokens) {
    if (targets.empty()) fail(Category::value, "tokens are judged by targets: an npy of whole numbers [items, tokens]");
    d.items = read_items(data);
    d.items.targets = read_npy(targets);
    const Shape& s = d.items.targets.shape();
    if (is_float(d.items.targets.dtype()) || s.size() != 2 || s[0] != static_cast<int64_t>(d.items.items))
      fail(Category::shape, "{}: expected whole numbers [{}, tokens], got {} of {}", targets.string(), d.items.items,
           to_string(d.items.targets.dtype()), to_string(s));
    return d;
  }
  if (!targets.empty()) fail(Category::value, "targets go with tokens; masks and pictures are named in the CSV, boxes in it or in JSON");
  if (kind == Drawn::boxes) {
    for (auto& [file, boxes] : read_boxes(data, d.classes)) {
      d.items.files.push_back({folder / file, ""});
      d.expected.push_back(std::move(boxes));
    }
  } else {
    if (fs::is_directory(data)) fail(Category::value, "{}: is a folder; expected a CSV of picture and target", data.string());
    d.items.files = read_labelled(data, beside);
    for (LabelledFile& f : d.items.files) f.label = (folder / f.label).string();
  }
  d.items.items = d.items.files.size();
  if (d.items.items == 0) fail(Category::value, "{}: it holds no items", data.string());
  return d;
}

std::vector<double> DrawnJudgement::by_item() const {
  std::vector<double> out;
  for (const MaskAnswer& a : masks) out.push_back(a.mean_overlap());
  for (const PictureAnswer& a : pictures) out.push_back(a.psnr);
  for (const BoxAnswer& a : boxes) out.push_back(share_of_boxes(a));
  for (const TokenAnswer& a : tokens) out.push_back(-a.loss / static_cast<double>(std::max<int64_t>(1, a.count)));
  return out;
}

DrawnJudgement judge_drawn(const Program& program, const DrawnData& data, const std::vector<Shape>& shapes, const DrawnOptions& options) {
  DrawnJudgement j;
  j.kind = data.kind;
  j.classes = data.classes.empty() ? labels_in(program.metadata()) : data.classes;
  const size_t items = data.items.items;
  std::vector<Size> sizes(items);       // of the pictures as they were
  std::vector<Tensor> expected(items);  // pixels of targets, from when they are read until they are judged
  const std::vector<Group> groups = groups_of(program, data, shapes, options.pictures);
  std::vector<const PictureOptions*> ways(items);
  for (const Group& g : groups) {
    for (size_t i : g.items) ways[i] = &g.picture;
  }
  std::function<std::vector<Tensor>(size_t)> load;
  std::vector<std::string> names;
  for (const Port& p : program.outputs()) names.push_back(p.name);
  DetectForm form = data.kind == Drawn::boxes ? described_form(options.form, program.metadata()) : DetectForm();
  if (data.kind == Drawn::tokens) {
    load = item_loader(program, data.items, shapes, options.pictures);
  } else {
    load = [&](size_t i) {
      const Tensor pixels = read_picture(data.items.files[i].file);
      sizes[i] = {pixels.shape()[0], pixels.shape()[1]};
      // What is expected is read here, so that a file that cannot be read leaves out its item alone.
      if (data.kind == Drawn::masks) expected[i] = read_mask(data.items.files[i].label);
      if (data.kind == Drawn::pictures) expected[i] = read_picture(data.items.files[i].label);
      return std::vector<Tensor>{picture_to_tensor(pixels, *ways[i])};
    };
  }
  j.seen.assign(items, 0);
  std::vector<MaskAnswer> masks(items);
  std::vector<PictureAnswer> pictures(items);
  std::vector<BoxAnswer> boxes(items);
  std::vector<TokenAnswer> tokens(items);
  const auto take = [&](size_t i, const std::vector<Tensor>& out) {
    const std::string name = data.items.name(i);
    const PictureOptions& picture = *ways[i];
    switch (data.kind) {
      case Drawn::masks: {
        const Tensor said = detecting::mask_in_picture(out[0], picture, expected[i].shape()[0], expected[i].shape()[1]);
        int64_t most = 0;
        for (int64_t c : said.as<int64_t>()) most = std::max(most, c + 1);
        for (int64_t c : expected[i].as<int64_t>()) most = std::max(most, c + 1);
        masks[i] = mask_answer(name, said, expected[i], most);
        expected[i] = {};
        break;
      }
      case Drawn::pictures: {
        // What is expected, at the size that the model gives.
        const Shape& s = out[0].shape();
        PictureOptions as = picture;
        as.mean = {0}, as.scale = {static_cast<float>(options.most / 255)};
        as.dtype = DType::f32;
        if (s.size() == 4) as.height = s[picture.channels_last ? 1 : 2], as.width = s[picture.channels_last ? 2 : 3];
        if (s.size() == 4) as.channels = s[picture.channels_last ? 3 : 1];
        pictures[i] = picture_answer(name, out[0], picture_to_tensor(expected[i], as), options.most, picture.channels_last);
        expected[i] = {};
        break;
      }
      case Drawn::boxes: {
        const Answers answers{names, out};
        boxes[i] = {name,
                    detect(answers, form, 0, picture.height, picture.width,
                           placement(picture.fit, sizes[i].height, sizes[i].width, picture.height, picture.width), options.detect),
                    data.expected[i]};
        break;
      }
      case Drawn::tokens: {
        const Tensor& targets = data.items.targets;
        Tensor row(targets.dtype(), {targets.shape()[1]});
        std::memcpy(row.data(), static_cast<const std::byte*>(targets.data()) + i * row.byte_size(), row.byte_size());
        tokens[i] = token_answer(name, out[0], row);
        break;
      }
    }
    j.seen[i] = 1;
  };
  // What the form leaves open, by the first item that can be read, so that it does not depend on which lane is first.
  for (size_t k = 0, done = 0; data.kind == Drawn::boxes && done == 0 && k < groups[0].items.size(); ++k) {
    const size_t i = groups[0].items[k];
    run_items(
        program, groups[0].shapes, 1, [&](size_t) { return load(i); },
        [&](size_t, const std::vector<Tensor>& out) {
          form = complete_form({names, out}, static_cast<int64_t>(j.classes.size()), form);
          // A picture without anything does not show all of it.
          done = form.box && form.relative && form.scores;
        },
        {1, options.items.strict, options.items.run, {}, {}});
  }
  const auto pack = [&](size_t i) {
    switch (data.kind) {
      case Drawn::masks: return judging::bytes_of(masks[i]);
      case Drawn::pictures: return judging::bytes_of(pictures[i]);
      case Drawn::boxes: return judging::bytes_of(boxes[i]);
      default: return judging::bytes_of(tokens[i]);
    }
  };
  const auto unpack = [&](size_t i, std::string_view bytes) {
    masks[i].item = pictures[i].item = boxes[i].item = tokens[i].item = data.items.name(i);
    switch (data.kind) {
      case Drawn::masks: judging::read_answer(bytes, masks[i]); break;
      case Drawn::pictures: judging::read_answer(bytes, pictures[i]); break;
      case Drawn::boxes: judging::read_answer(bytes, boxes[i]), boxes[i].expected = data.expected[i]; break;
      default: judging::read_answer(bytes, tokens[i]);
    }
    j.seen[i] = 1;
  };
  size_t before = 0;
  const bool several = groups.size() > 1;
  for (const Group& g : groups) {
    ItemsOptions how = options.items;
    if (how.progress) how.progress = [&](size_t done) { options.items.progress(before + done); };
    // A checkpoint for each size of picture.
    const auto n = static_cast<size_t>(&g - groups.data());
    if (several && !how.share.checkpoint.empty()) how.share.checkpoint += fmt::format(".{}", n + 1);
    ItemsRun r = run_items(
        program, g.shapes, g.items.size(), [&](size_t k) { return load(g.items[k]); },
        [&](size_t k, const std::vector<Tensor>& out) { take(g.items[k], out); },
        {[&](size_t k) { return pack(g.items[k]); }, [&](size_t k, std::string_view bytes) { unpack(g.items[k], bytes); }}, how);
    j.run.elsewhere = r.elsewhere;
    add(j.run.shared, r.shared);
    for (const auto& [k, what] : r.failed) j.run.failed.emplace_back(g.items[k], what);
    j.run.seconds += r.seconds;
    j.run.lanes = std::max(j.run.lanes, r.lanes);
    before += g.items.size();
  }
  if (j.run.elsewhere) return j;
  std::ranges::sort(j.run.failed);
  if (j.run.failed.size() == items)
    fail(Category::value, "none of the {} items could be read; the first: {}", items, j.run.failed[0].second);
  j.form = form;
  size_t classes = j.classes.size();
  for (const MaskAnswer& a : masks) classes = std::max(classes, a.is.size());
  while (data.kind == Drawn::masks && j.classes.size() < classes) j.classes.push_back(std::to_string(j.classes.size()));
  for (MaskAnswer& a : masks) {
    for (auto* pixels : {&a.both, &a.said, &a.is}) pixels->resize(classes);
  }
  for (size_t i = 0; i < items; ++i) {
    if (!j.seen[i]) continue;
    if (data.kind == Drawn::masks) j.masks.push_back(std::move(masks[i]));
    else if (data.kind == Drawn::pictures) j.pictures.push_back(std::move(pictures[i]));
    else if (data.kind == Drawn::boxes) j.boxes.push_back(std::move(boxes[i]));
    else j.tokens.push_back(std::move(tokens[i]));
  }
  return j;
}

Interval compare_drawn(const DrawnJudgement& first, const DrawnJudgement& second) {
  if (first.kind != second.kind || first.seen.size() != second.seen.size())
    fail(Category::value, "{} items and {} cannot be compared one by one", first.seen.size(), second.seen.size());
  const std::vector<double> a = first.by_item(), b = second.by_item();
  std::vector<double> apart;
  for (size_t i = 0, x = 0, y = 0; i < first.seen.size(); ++i) {
    if (first.seen[i] && second.seen[i]) apart.push_back(b[y] - a[x]);
    x += static_cast<size_t>(first.seen[i]);
    y += static_cast<size_t>(second.seen[i]);
  }
  return bootstrap(apart.size(), [&](std::span<const size_t> drawn) {
    double sum = 0;
    for (size_t i : drawn) sum += apart[i];
    return drawn.empty() ? 0 : sum / static_cast<double>(drawn.size());
  });
}

}  // namespace lathe
