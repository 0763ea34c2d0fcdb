#include "narrow/equalise.hpp"

#include <algorithm>
#include <cmath>
#include <set>

#include "narrow/layers.hpp"

namespace lathe::narrowing {
namespace {

struct Link {
  ValueId value = kAbsent;  // what the readers read
  std::vector<Layer> readers;
  std::optional<Layer> maker;  // or
  int normalisation = -1;      // a LayerNormalization
  bool conv = false;
};

class Links {
 public:
  explicit Links(const Graph& g) : g_(g), readers_(g.consumers()), made_(g.producers()) {
    for (size_t n = 0; n < g.nodes.size(); ++n) {
      if (auto l = layer_of(g, n, readers_)) layers_.push_back(*l);
    }
  }
  std::vector<Link> all() const {
    std::vector<Link> links;
    std::set<ValueId> seen;
    for (const Layer& l : layers_) {
      if (!seen.insert(l.input).second) continue;
      if (auto link = link_to(l.input)) links.push_back(std::move(*link));
    }
    return links;
  }

 private:
  bool alone(ValueId v) const {
    return readers_[static_cast<size_t>(v)].size() == 1 && std::ranges::find(g_.outputs, v) == g_.outputs.end();
  }
  bool own(ValueId constant) const { return readers_[static_cast<size_t>(constant)].size() == 1; }

  std::optional<Link> link_to(ValueId v) const {
    Link link;
    link.value = v;
    if (std::ranges::find(g_.outputs, v) != g_.outputs.end()) return std::nullopt;
    for (int r : readers_[static_cast<size_t>(v)]) {
      const auto l = std::ranges::find(layers_, static_cast<size_t>(r), &Layer::node);
      if (l == layers_.end() || l->input != v || !own(l->weights)) return std::nullopt;
      link.readers.push_back(*l);
    }
    const auto is_conv = [&](const Layer& l) { return g_.nodes[l.node].op == "Conv"; };
    link.conv = is_conv(link.readers.front());
    if (std::ranges::any_of(link.readers, [&](const Layer& l) { return is_conv(l) != link.conv; })) return std::nullopt;
    static const std::set<std::string> kCommute{"Relu", "LeakyRelu", "MaxPool", "AveragePool", "GlobalAveragePool", "Identity"};
    for (ValueId at = v;;) {
      const auto maker = std::ranges::find(layers_, at, &Layer::output);
      if (maker != layers_.end()) {
        if (is_conv(*maker) != link.conv || !own(maker->weights) || (maker->bias != kAbsent && !own(maker->bias))) return std::nullopt;
        link.maker = *maker;
        return link;
      }
      const int p = made_[static_cast<size_t>(at)];
      if (p < 0) return std::nullopt;
      const Node& n = g_.nodes[static_cast<size_t>(p)];
      if (!n.domain.empty()) return std::nullopt;
      if (n.op == "LayerNormalization" && !link.conv) {
        const auto& dims = g_.values[static_cast<size_t>(at)].dims;
        const int64_t axis = n.integer("axis", -1);
        if (!dims || (axis != -1 && axis != static_cast<int64_t>(dims->size()) - 1) || n.outputs[0] != at) return std::nullopt;
        for (size_t i = 1; i < n.inputs.size(); ++i) {
          if (n.inputs[i] == kAbsent) continue;
          const Value& c = g_.values[static_cast<size_t>(n.inputs[i])];
          if (!c.constant || c.dtype != DType::f32 || !own(n.inputs[i])) return std::nullopt;
        }
        link.normalisation = p;
        return link;
      }
      if (!kCommute.contains(n.op) || n.outputs[0] != at || !alone(n.inputs[0])) return std::nullopt;
      at = n.inputs[0];
    }
  }

  const Graph& g_;
  std::vector<std::vector<int>> readers_;
  std::vector<int> made_;
  std::vector<Layer> layers_;
};

// Calls f with each weight of a layer that reads channel c: the channel, and the weight.
template <typename F>
void each_by_channel(Layer& l, std::vector<float>& rows, bool conv, int64_t channels, F f) {
  const int64_t each = l.filters / l.groups, in_group = channels / l.groups, taps = conv ? l.depth / in_group : 1;
  for (int64_t i = 0; i < l.filters; ++i) {
    for (int64_t k = 0; k < l.depth; ++k) f(i / each * in_group + k / taps, rows[static_cast<size_t>(i * l.depth + k)]);
  }
}

void scale_along_first(Graph& g, ValueId constant, const std::vector<float>& factors) {
  Value& v = g.values[static_cast<size_t>(constant)];
  Tensor t(DType::f32, v.constant->shape());
  const auto from = v.constant->as<float>();
  for (size_t i = 0; i < from.size(); ++i) t.as<float>()[i] = from[i] * factors[i];
  v.constant = std::move(t);
}

}  // namespace

std::vector<ValueId> evenable(const Graph& g) {
  std::vector<ValueId> out;
  for (const Link& l : Links(g).all()) out.push_back(l.value);
  return out;
}

int equalise(Graph& g, const std::map<ValueId, std::vector<float>>& most) {
  int done = 0;
  for (Link& link : Links(g).all()) {
    const auto met = most.find(link.value);
    if (met == most.end() || met->second.empty()) continue;
    const auto channels = static_cast<int64_t>(met->second.size());
    std::vector<float> held(met->second.size());  // the largest weight that reads each channel
    bool depthwise = true;
    std::vector<std::vector<float>> rows;
    for (Layer& l : link.readers) {
      depthwise = depthwise && l.groups == channels;
      rows.push_back(by_filter(g, l));
      each_by_channel(l, rows.back(), link.conv, channels,
                      [&](int64_t c, float w) { held[static_cast<size_t>(c)] = std::max(held[static_cast<size_t>(c)], std::fabs(w)); });
    }
    // Filters that read one channel alone have a scale for it: the activation can be made wholly even. Others share theirs: half and half.
    std::vector<double> factor(held.size(), 1);
    double logs = 0, counted = 0;
    for (size_t c = 0; c < held.size(); ++c) {
      if (met->second[c] == 0 || held[c] == 0) continue;
      factor[c] = depthwise ? met->second[c] : std::sqrt(static_cast<double>(met->second[c]) / held[c]);
      logs += std::log(factor[c]), ++counted;
    }
    if (counted == 0) continue;
    const double middle = std::exp(logs / counted);
    std::vector<float> up(held.size(), 1), down(held.size(), 1);
    constexpr double kMost = 64;
    for (size_t c = 0; c < held.size(); ++c) {
      if (met->second[c] == 0 || held[c] == 0) continue;
      // A power of two: scaled weights and activations keep their bits.
      const double f = std::exp2(std::nearbyint(std::log2(std::clamp(factor[c] / middle, 1 / kMost, kMost))));
      up[c] = static_cast<float>(f), down[c] = static_cast<float>(1 / f);
    }
    if (std::ranges::all_of(up, [](float f) { return f == 1; })) continue;
    for (size_t i = 0; i < link.readers.size(); ++i) {
      each_by_channel(link.readers[i], rows[i], link.conv, channels, [&](int64_t c, float& w) { w *= up[static_cast<size_t>(c)]; });
      g.values[static_cast<size_t>(link.readers[i].weights)].constant = in_order(g, link.readers[i], rows[i]);
    }
    if (link.maker) {
      std::vector<float> of_maker = by_filter(g, *link.maker);
      for (size_t i = 0; i < of_maker.size(); ++i) of_maker[i] *= down[i / static_cast<size_t>(link.maker->depth)];
      g.values[static_cast<size_t>(link.maker->weights)].constant = in_order(g, *link.maker, of_maker);
      if (link.maker->bias != kAbsent) scale_along_first(g, link.maker->bias, down);
    } else {
      const std::vector<ValueId> in = g.nodes[static_cast<size_t>(link.normalisation)].inputs;
      for (size_t i = 1; i < in.size(); ++i) {
        if (in[i] != kAbsent) scale_along_first(g, in[i], down);
      }
    }
    ++done;
  }
  return done;
}

void note_channels(const Tensor& t, bool conv, std::vector<float>& most) {
  const Shape& shape = t.shape();
  const size_t axis = conv ? 1 : shape.size() - 1;
  const int64_t channels = shape[axis], inner = conv ? element_count(std::span<const int64_t>(shape).subspan(2)) : 1;
  most.resize(static_cast<size_t>(channels));
  const auto x = t.as<float>();
  for (size_t i = 0; i < x.size(); ++i) {
    if (!std::isfinite(x[i])) continue;
    float& m = most[i / static_cast<size_t>(inner) % static_cast<size_t>(channels)];
    m = std::max(m, std::fabs(x[i]));
  }
}

}  // namespace lathe::narrowing
