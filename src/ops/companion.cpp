// The standard's companion domain for classic machine learning: trees, linear models, support vectors, encoders, scalers.
// Source: the pages of domain ai.onnx.ml.
#include <algorithm>
#include <cmath>
#include <limits>
#include <map>
#include <numeric>

#include "ops/movement.hpp"
#include "ops/support.hpp"

namespace lathe::ops {
namespace {

constexpr const char* kDomain = "ai.onnx.ml";

std::vector<float> floats(const Node& n, std::string_view name) {
  const auto* v = n.find<std::vector<float>>(name);
  return v ? *v : std::vector<float>();
}
std::vector<std::string> strings(const Node& n, std::string_view name) {
  const auto* v = n.find<std::vector<std::string>>(name);
  return v ? *v : std::vector<std::string>();
}

// Rows of features: a vector is one row.
struct Rows {
  int64_t count, width;
  std::vector<double> v;
  const double* row(int64_t i) const { return v.data() + i * width; }
};

Rows rows_of(const Tensor& x) {
  if (x.rank() != 1 && x.rank() != 2) fail(Category::shape, "input is {}, expected rows of features", to_string(x.shape()));
  return {x.rank() == 2 ? x.shape()[0] : 1, x.shape().back(), widen<double>(x)};
}

Dim row_dim(const InferContext& c) { return c.rank(0) == 2 ? (*c.dims(0))[0] : c.rank(0) == 1 ? Dim(1) : Dim(); }

double logistic(double x) { return x >= 0 ? 1 / (1 + std::exp(-x)) : std::exp(x) / (1 + std::exp(x)); }

// Inverse of the normal distribution's integral, by Newton's steps from a rational start.
double probit(double p) {
  if (!(p > 0 && p < 1)) return p <= 0 ? -INFINITY : p >= 1 ? INFINITY : NAN;
  double x = p < 0.5 ? -std::sqrt(-2 * std::log(p)) : std::sqrt(-2 * std::log(1 - p));
  for (int i = 0; i < 60; ++i) {
    const double error = 0.5 * std::erfc(-x / std::sqrt(2.0)) - p, slope = std::exp(-x * x / 2) / std::sqrt(2 * M_PI);
    const double step = error / std::max(slope, 1e-300);
    x -= std::clamp(step, -1.0, 1.0);
    if (std::fabs(step) < 1e-15) break;
  }
  return x;
}

void post_transform(const std::string& how, std::vector<double>& s) {
  if (how == "NONE") return;
  if (how == "LOGISTIC") {
    for (double& e : s) e = logistic(e);
  } else if (how == "PROBIT") {
    for (double& e : s) e = probit(e);
  } else if (how == "SOFTMAX" || how == "SOFTMAX_ZERO") {  // the second leaves scores that are zero out of it
    const bool skip = how == "SOFTMAX_ZERO";
    double top = -INFINITY, sum = 0;
    for (double e : s) top = std::max(top, e);
    for (double& e : s) {
      if (skip && e == 0) continue;
      sum += e = std::exp(e - top);
    }
    for (double& e : s) e = sum == 0 ? e : e / sum;
  } else {
    fail(Category::value, "post_transform is '{}', expected NONE, SOFTMAX, LOGISTIC, SOFTMAX_ZERO or PROBIT", how);
  }
}

// Class labels: strings or integers, whichever list is filled.
struct Labels {
  std::vector<std::string> names;
  std::vector<int64_t> numbers;
  bool text() const { return !names.empty(); }
  int64_t count() const { return static_cast<int64_t>(text() ? names.size() : numbers.size()); }
  Tensor tensor(const std::vector<int64_t>& picks) const {
    const Shape shape{static_cast<int64_t>(picks.size())};
    if (text()) {
      std::vector<std::string> out;
      for (int64_t p : picks) out.push_back(names.at(p));
      return Tensor::from<std::string>(shape, out);
    }
    std::vector<int64_t> out;
    for (int64_t p : picks) out.push_back(numbers.empty() ? p : numbers.at(p));
    return Tensor::from<int64_t>(shape, out);
  }
};

Labels labels_of(const Node& n, const char* text, const char* numbers) { return {strings(n, text), n.integers(numbers)}; }

// `columns`: when there may be no rows to tell them by.
Tensor matrix(int64_t rows, std::vector<double> v, int64_t columns = 0) {
  return narrow<double>(DType::f32, Shape{rows, rows == 0 ? columns : static_cast<int64_t>(v.size()) / rows}, v);
}

// Scores of classes to a label and transformed scores. A single score of two classes stands for both.
struct Classified {
  std::vector<int64_t> picks;
  std::vector<double> scores;
  void add(std::vector<double> s, int64_t classes, const std::string& how) {
    if (s.size() == 1 && classes == 2) {
      picks.push_back(s[0] > 0);
      s = {-s[0], s[0]};
    } else {
      picks.push_back(std::max_element(s.begin(), s.end()) - s.begin());
    }
    post_transform(how, s);
    scores.insert(scores.end(), s.begin(), s.end());
  }
};

void infer_classifier(InferContext& c, const char* text, const char* numbers) {
  const Labels l = labels_of(c.node(), text, numbers);
  c.set(0, l.text() ? DType::string : DType::i64, Dims{row_dim(c)});
  c.set(1, DType::f32, Dims{row_dim(c), Dim()});
}

// ---- linear models ----

// One score a row of weights: row r of x times the weights, plus the bias.
std::vector<double> linear_scores(const Rows& x, int64_t r, const std::vector<float>& weights, const std::vector<float>& bias,
                                  int64_t count) {
  std::vector<double> scores;
  for (int64_t k = 0; k < count; ++k) {
    double sum = bias.empty() ? 0 : bias[k];
    for (int64_t i = 0; i < x.width; ++i) sum += x.row(r)[i] * weights[k * x.width + i];
    scores.push_back(sum);
  }
  return scores;
}

std::vector<Tensor> linear_classifier(const EvalContext& c) {
  const Rows x = rows_of(c.in(0));
  const auto weights = floats(c.node, "coefficients"), bias = floats(c.node, "intercepts");
  const Labels labels = labels_of(c.node, "classlabels_strings", "classlabels_ints");
  if (x.width == 0 || weights.size() % static_cast<size_t>(x.width) != 0)
    fail(Category::value, "{} coefficients do not fit rows of {}", weights.size(), x.width);
  const int64_t scores = static_cast<int64_t>(weights.size()) / x.width;
  if (!bias.empty() && static_cast<int64_t>(bias.size()) != scores)
    fail(Category::value, "intercepts has {} entries, expected {}", bias.size(), scores);
  if (labels.count() != scores && !(scores == 1 && labels.count() == 2))
    fail(Category::value, "{} class labels do not fit {} scores", labels.count(), scores);
  Classified out;
  for (int64_t r = 0; r < x.count; ++r) {
    out.add(linear_scores(x, r, weights, bias, scores), labels.count(), c.node.text("post_transform", "NONE"));
  }
  return {labels.tensor(out.picks), matrix(x.count, out.scores)};
}

std::vector<Tensor> linear_regressor(const EvalContext& c) {
  const Rows x = rows_of(c.in(0));
  const auto weights = floats(c.node, "coefficients"), bias = floats(c.node, "intercepts");
  const int64_t targets = c.node.integer("targets", 1);
  if (targets < 1 || static_cast<int64_t>(weights.size()) != targets * x.width ||
      (!bias.empty() && static_cast<int64_t>(bias.size()) != targets))
    fail(Category::value, "{} coefficients and {} intercepts do not fit rows of {} and {} targets", weights.size(), bias.size(), x.width,
         targets);
  std::vector<double> y;
  for (int64_t r = 0; r < x.count; ++r) {
    auto s = linear_scores(x, r, weights, bias, targets);
    post_transform(c.node.text("post_transform", "NONE"), s);
    y.insert(y.end(), s.begin(), s.end());
  }
  return {matrix(x.count, y, targets)};
}

// ---- support vectors ----

struct Kernel {
  std::string type;
  double gamma = 0, offset = 0, degree = 0;
  explicit Kernel(const Node& n) : type(n.text("kernel_type", "LINEAR")) {
    const auto p = floats(n, "kernel_params");
    if (p.size() >= 3) gamma = p[0], offset = p[1], degree = p[2];
    if (type != "LINEAR" && type != "POLY" && type != "RBF" && type != "SIGMOID")
      fail(Category::value, "kernel_type is '{}', expected LINEAR, POLY, RBF or SIGMOID", type);
  }
  double operator()(const double* a, const float* b, int64_t n) const {
    double sum = 0;
    for (int64_t i = 0; i < n; ++i) sum += type == "RBF" ? (a[i] - b[i]) * (a[i] - b[i]) : a[i] * b[i];
    if (type == "POLY") return std::pow(gamma * sum + offset, degree);
    if (type == "RBF") return std::exp(-gamma * sum);
    if (type == "SIGMOID") return std::tanh(gamma * sum + offset);
    return sum;
  }
};

std::vector<Tensor> svm_regressor(const EvalContext& c) {
  const Rows x = rows_of(c.in(0));
  const Kernel kernel(c.node);
  const auto weights = floats(c.node, "coefficients"), vectors = floats(c.node, "support_vectors"), rho = floats(c.node, "rho");
  const int64_t supports = c.node.integer("n_supports", 0);
  if (supports > 0 ? static_cast<int64_t>(vectors.size()) != supports * x.width || static_cast<int64_t>(weights.size()) < supports
                   : static_cast<int64_t>(weights.size()) != x.width)
    fail(Category::value, "{} coefficients and {} support vector entries do not fit rows of {}", weights.size(), vectors.size(), x.width);
  std::vector<double> y;
  for (int64_t r = 0; r < x.count; ++r) {
    double sum = rho.empty() ? 0 : rho[0];
    if (supports > 0) {
      for (int64_t k = 0; k < supports; ++k) sum += weights[k] * kernel(x.row(r), vectors.data() + k * x.width, x.width);
    } else {
      sum += kernel(x.row(r), weights.data(), x.width);
    }
    std::vector<double> s{c.node.integer("one_class", 0) ? (sum > 0 ? 1.0 : -1.0) : sum};
    post_transform(c.node.text("post_transform", "NONE"), s);
    y.push_back(s[0]);
  }
  return {matrix(x.count, y, 1)};
}

// Probabilities of classes from those of pairs (Wu, Lin and Weng 2004, second method).
std::vector<double> coupled(const std::vector<double>& pair, int64_t k) {
  std::vector<double> q(k * k, 0), p(k, 1.0 / static_cast<double>(k)), qp(k);
  for (int64_t t = 0; t < k; ++t) {
    for (int64_t j = 0; j < k; ++j) {
      if (j == t) continue;
      q[t * k + t] += pair[j * k + t] * pair[j * k + t];
      q[t * k + j] = -pair[j * k + t] * pair[t * k + j];
    }
  }
  for (int round = 0; round < 100; ++round) {
    double pqp = 0, worst = 0;
    for (int64_t t = 0; t < k; ++t) {
      qp[t] = 0;
      for (int64_t j = 0; j < k; ++j) qp[t] += q[t * k + j] * p[j];
      pqp += p[t] * qp[t];
    }
    for (int64_t t = 0; t < k; ++t) worst = std::max(worst, std::fabs(qp[t] - pqp));
    if (worst < 0.005 / static_cast<double>(k)) break;
    for (int64_t t = 0; t < k; ++t) {
      const double diff = (-qp[t] + pqp) / q[t * k + t];
      p[t] += diff;
      pqp = (pqp + diff * (diff * q[t * k + t] + 2 * qp[t])) / (1 + diff) / (1 + diff);
      for (int64_t j = 0; j < k; ++j) {
        qp[j] = (qp[j] + diff * q[t * k + j]) / (1 + diff);
        p[j] /= 1 + diff;
      }
    }
  }
  return p;
}

std::vector<Tensor> svm_classifier(const EvalContext& c) {
  const Rows x = rows_of(c.in(0));
  const Kernel kernel(c.node);
  const Labels labels = labels_of(c.node, "classlabels_strings", "classlabels_ints");
  const auto weights = floats(c.node, "coefficients"), vectors = floats(c.node, "support_vectors"), rho = floats(c.node, "rho"),
             a = floats(c.node, "prob_a"), b = floats(c.node, "prob_b");
  const auto per_class = c.node.integers("vectors_per_class");
  const int64_t classes = labels.count(), supports = std::accumulate(per_class.begin(), per_class.end(), int64_t{0});
  const std::string how = c.node.text("post_transform", "NONE");
  Classified out;
  if (supports == 0) {  // linear: one row of coefficients a class
    if (classes < 1 || static_cast<int64_t>(weights.size()) != classes * x.width)
      fail(Category::value, "{} coefficients do not fit {} classes and rows of {}", weights.size(), classes, x.width);
    for (int64_t r = 0; r < x.count; ++r) {
      std::vector<double> s;
      for (int64_t k = 0; k < classes; ++k)
        s.push_back(kernel(x.row(r), weights.data() + k * x.width, x.width) + (rho.empty() ? 0 : rho[rho.size() == 1 ? 0 : k]));
      out.add(s, classes, how);
    }
    return {labels.tensor(out.picks), matrix(x.count, out.scores)};
  }
  const int64_t pairs = classes * (classes - 1) / 2;
  if (static_cast<int64_t>(per_class.size()) != classes || static_cast<int64_t>(vectors.size()) != supports * x.width ||
      static_cast<int64_t>(weights.size()) != (classes - 1) * supports || static_cast<int64_t>(rho.size()) < pairs ||
      (!a.empty() && (static_cast<int64_t>(a.size()) < pairs || b.size() != a.size()))) {
    fail(Category::value, "support vectors, coefficients, rho and probabilities do not fit {} classes and rows of {}", classes, x.width);
  }
  std::vector<int64_t> start(classes, 0);
  for (int64_t k = 1; k < classes; ++k) start[k] = start[k - 1] + per_class[k - 1];
  for (int64_t r = 0; r < x.count; ++r) {
    std::vector<double> kv(supports), decision, votes(classes, 0), pair(classes * classes, 0);
    for (int64_t s = 0; s < supports; ++s) kv[s] = kernel(x.row(r), vectors.data() + s * x.width, x.width);
    for (int64_t i = 0; i < classes; ++i) {
      for (int64_t j = i + 1; j < classes; ++j) {
        double sum = rho[decision.size()];
        for (int64_t s = 0; s < per_class[i]; ++s) sum += weights[(j - 1) * supports + start[i] + s] * kv[start[i] + s];
        for (int64_t s = 0; s < per_class[j]; ++s) sum += weights[i * supports + start[j] + s] * kv[start[j] + s];
        if (!a.empty()) {
          const double p = std::clamp(1 - logistic(sum * a[decision.size()] + b[decision.size()]), 1e-7, 1 - 1e-7);
          pair[i * classes + j] = p;
          pair[j * classes + i] = 1 - p;
        }
        votes[sum > 0 ? i : j] += 1;
        decision.push_back(sum);
      }
    }
    if (!a.empty()) {
      std::vector<double> p = coupled(pair, classes);
      out.picks.push_back(std::max_element(p.begin(), p.end()) - p.begin());
      post_transform(how, p);
      out.scores.insert(out.scores.end(), p.begin(), p.end());
    } else {
      out.picks.push_back(std::max_element(votes.begin(), votes.end()) - votes.begin());
      std::vector<double> s = classes == 2 ? std::vector<double>{decision[0], -decision[0]} : decision;
      post_transform(how, s);
      out.scores.insert(out.scores.end(), s.begin(), s.end());
    }
  }
  return {labels.tensor(out.picks), matrix(x.count, out.scores)};
}

// ---- trees ----

enum class Branch : uint8_t { less_equal, less, greater_equal, greater, equal, not_equal, member, leaf };

struct TreeNode {
  Branch branch = Branch::leaf;
  int64_t feature = 0;
  double value = 0;
  int64_t yes = -1, no = -1;
  bool missing_yes = false;
  std::vector<double> members;
  std::vector<std::pair<int64_t, double>> weights;  // leaf: target, weight
};

struct Forest {
  std::vector<TreeNode> nodes;
  std::vector<int64_t> roots;

  const TreeNode& walk(int64_t root, const double* x, int64_t width) const {
    int64_t at = root;
    for (size_t steps = 0; nodes[at].branch != Branch::leaf; ++steps) {
      const TreeNode& n = nodes[at];
      if (steps > nodes.size()) fail(Category::value, "a tree has a circle");
      if (n.feature < 0 || n.feature >= width) fail(Category::value, "a tree asks for feature {} of a row of {}", n.feature, width);
      const double v = x[n.feature];
      bool yes = false;
      switch (n.branch) {
        case Branch::less_equal: yes = v <= n.value; break;
        case Branch::less: yes = v < n.value; break;
        case Branch::greater_equal: yes = v >= n.value; break;
        case Branch::greater: yes = v > n.value; break;
        case Branch::equal: yes = v == n.value; break;
        case Branch::not_equal: yes = v != n.value; break;
        default: yes = std::find(n.members.begin(), n.members.end(), v) != n.members.end();
      }
      if (std::isnan(v) && n.missing_yes) yes = true;
      at = yes ? n.yes : n.no;
      if (at < 0 || at >= static_cast<int64_t>(nodes.size())) fail(Category::value, "a tree branches to a node that is not there");
    }
    return nodes[at];
  }
};

// Numbers that stand in a list of floats, or (later versions) in a tensor.
std::vector<double> numbers(const Node& n, const std::string& name) {
  if (const auto* t = n.find<Tensor>(name)) return widen<double>(*t);
  if (const auto* t = n.find<Tensor>(name + "_as_tensor")) return widen<double>(*t);
  const auto f = floats(n, name);
  return {f.begin(), f.end()};
}

// The form of versions 1 and 3: nodes addressed by tree and node id. `kind`: "target" or "class".
Forest forest_of(const Node& n, const std::string& kind) {
  const auto trees = n.integers("nodes_treeids"), ids = n.integers("nodes_nodeids"), features = n.integers("nodes_featureids"),
             yes = n.integers("nodes_truenodeids"), no = n.integers("nodes_falsenodeids"),
             missing = n.integers("nodes_missing_value_tracks_true");
  const auto modes = strings(n, "nodes_modes");
  const auto values = numbers(n, "nodes_values");
  const size_t count = ids.size();
  if (trees.size() != count || features.size() != count || yes.size() != count || no.size() != count || modes.size() != count ||
      values.size() != count || (!missing.empty() && missing.size() != count))
    fail(Category::value, "the lists of tree nodes differ in length");
  std::map<std::pair<int64_t, int64_t>, int64_t> at;
  Forest f;
  f.nodes.resize(count);
  std::vector<bool> is_child(count, false);
  for (size_t i = 0; i < count; ++i) {
    if (!at.emplace(std::pair{trees[i], ids[i]}, static_cast<int64_t>(i)).second)
      fail(Category::value, "tree {} has two nodes {}", trees[i], ids[i]);
  }
  const std::map<std::string, Branch> branches{{"BRANCH_LEQ", Branch::less_equal},
                                               {"BRANCH_LT", Branch::less},
                                               {"BRANCH_GTE", Branch::greater_equal},
                                               {"BRANCH_GT", Branch::greater},
                                               {"BRANCH_EQ", Branch::equal},
                                               {"BRANCH_NEQ", Branch::not_equal},
                                               {"LEAF", Branch::leaf}};
  for (size_t i = 0; i < count; ++i) {
    TreeNode& t = f.nodes[i];
    const auto b = branches.find(modes[i]);
    if (b == branches.end()) fail(Category::value, "nodes_modes holds '{}'", modes[i]);
    t.branch = b->second;
    t.feature = features[i];
    t.value = values[i];
    t.missing_yes = !missing.empty() && missing[i] != 0;
    if (t.branch == Branch::leaf) continue;
    const auto child = [&](int64_t id) {
      const auto it = at.find({trees[i], id});
      if (it == at.end()) fail(Category::value, "tree {} branches to node {}, which it does not have", trees[i], id);
      is_child[it->second] = true;
      return it->second;
    };
    t.yes = child(yes[i]);
    t.no = child(no[i]);
  }
  std::vector<bool> reached(count, false);
  std::vector<int64_t> left;
  for (size_t i = 0; i < count; ++i) {
    if (!is_child[i]) left.push_back(static_cast<int64_t>(i));
  }
  f.roots = left;
  while (!left.empty()) {
    const int64_t i = left.back();
    left.pop_back();
    if (reached[i]) continue;
    reached[i] = true;
    if (f.nodes[i].branch != Branch::leaf) left.insert(left.end(), {f.nodes[i].yes, f.nodes[i].no});
  }
  // What no root leads to is its own ancestor.
  const auto lost = std::find(reached.begin(), reached.end(), false);
  if (lost != reached.end())
    fail(Category::value, "tree {} has a circle through node {}", trees[lost - reached.begin()], ids[lost - reached.begin()]);
  const auto wt = n.integers(kind + "_treeids"), wn = n.integers(kind + "_nodeids"), wi = n.integers(kind + "_ids");
  const auto w = numbers(n, kind + "_weights");
  if (wn.size() != wt.size() || wi.size() != wt.size() || w.size() != wt.size())
    fail(Category::value, "the lists of leaf weights differ in length");
  for (size_t i = 0; i < wt.size(); ++i) {
    const auto it = at.find({wt[i], wn[i]});
    if (it == at.end()) fail(Category::value, "a weight belongs to node {} of tree {}, which is not there", wn[i], wt[i]);
    f.nodes[it->second].weights.emplace_back(wi[i], w[i]);
  }
  return f;
}

// The form of version 5: branches and leaves in lists of their own, roots given.
Forest forest5_of(const Node& n) {
  const auto features = n.integers("nodes_featureids"), yes = n.integers("nodes_truenodeids"), no = n.integers("nodes_falsenodeids"),
             yes_leaf = n.integers("nodes_trueleafs"), no_leaf = n.integers("nodes_falseleafs"),
             missing = n.integers("nodes_missing_value_tracks_true"), targets = n.integers("leaf_targetids");
  const auto splits = numbers(n, "nodes_splits"), modes = numbers(n, "nodes_modes"), weights = numbers(n, "leaf_weights"),
             members = numbers(n, "membership_values");
  const size_t count = features.size();
  if (yes.size() != count || no.size() != count || yes_leaf.size() != count || no_leaf.size() != count || splits.size() != count ||
      modes.size() != count || targets.size() != weights.size() || (!missing.empty() && missing.size() != count))
    fail(Category::value, "the lists of tree nodes or leaves differ in length");
  Forest f;
  f.nodes.resize(count + targets.size());
  size_t next_member = 0;
  for (size_t i = 0; i < count; ++i) {
    TreeNode& t = f.nodes[i];
    if (!(modes[i] >= 0 && modes[i] <= 6)) fail(Category::value, "nodes_modes holds {}", modes[i]);
    t.branch = static_cast<Branch>(static_cast<int>(modes[i]));
    t.feature = features[i];
    t.value = splits[i];
    t.missing_yes = !missing.empty() && missing[i] != 0;
    const auto child = [&](int64_t id, bool leaf) {
      if (id < 0 || id >= static_cast<int64_t>(leaf ? targets.size() : count))
        fail(Category::value, "a tree branches to {} {}, which is not there", leaf ? "leaf" : "node", id);
      return leaf ? static_cast<int64_t>(count) + id : id;
    };
    t.yes = child(yes[i], yes_leaf[i] != 0);
    t.no = child(no[i], no_leaf[i] != 0);
    if (t.branch == Branch::member) {  // sets stand one after another, NaN between them
      while (next_member < members.size() && !std::isnan(members[next_member])) t.members.push_back(members[next_member++]);
      ++next_member;
    }
  }
  for (size_t i = 0; i < targets.size(); ++i) f.nodes[count + i].weights.emplace_back(targets[i], weights[i]);
  f.roots = n.integers("tree_roots");
  for (int64_t r : f.roots) {
    if (r < 0 || r >= static_cast<int64_t>(count)) fail(Category::value, "tree_roots holds {}, there are {} nodes", r, count);
  }
  return f;
}

// Aggregated weights of one row for every target.
std::vector<double> aggregate(const Forest& f, const double* row, int64_t width, int64_t targets, const std::string& how,
                              const std::vector<double>& base) {
  std::vector<double> sum(targets, 0);
  std::vector<bool> seen(targets, false);
  for (int64_t root : f.roots) {
    for (const auto& [target, weight] : f.walk(root, row, width).weights) {
      if (target < 0 || target >= targets) fail(Category::value, "a leaf counts for target {} of {}", target, targets);
      double& e = sum[target];
      if (how == "MIN") e = seen[target] ? std::min(e, weight) : weight;
      else if (how == "MAX") e = seen[target] ? std::max(e, weight) : weight;
      else e += weight;
      seen[target] = true;
    }
  }
  for (int64_t t = 0; t < targets; ++t) {
    if (how == "AVERAGE") sum[t] /= static_cast<double>(std::max<size_t>(1, f.roots.size()));
    if (!base.empty()) sum[t] += base[base.size() == 1 ? 0 : t];
  }
  return sum;
}

void check_base(const std::vector<double>& base, int64_t targets) {
  if (base.size() > 1 && static_cast<int64_t>(base.size()) != targets)
    fail(Category::value, "base_values has {} entries, expected {}", base.size(), targets);
}

std::vector<Tensor> tree_regressor(const EvalContext& c) {
  const Rows x = rows_of(c.in(0));
  const Forest f = forest_of(c.node, "target");
  const int64_t targets = c.node.integer("n_targets", 1);
  if (targets < 1) fail(Category::value, "n_targets is {}", targets);
  const auto base = numbers(c.node, "base_values");
  check_base(base, targets);
  const std::string how = c.node.text("aggregate_function", "SUM");
  if (how != "SUM" && how != "AVERAGE" && how != "MIN" && how != "MAX") fail(Category::value, "aggregate_function is '{}'", how);
  check_plain_size(targets);
  std::vector<double> y;
  for (int64_t r = 0; r < x.count; ++r) {
    auto s = aggregate(f, x.row(r), x.width, targets, how, base);
    post_transform(c.node.text("post_transform", "NONE"), s);
    y.insert(y.end(), s.begin(), s.end());
  }
  return {matrix(x.count, y)};
}

std::vector<Tensor> tree_classifier(const EvalContext& c) {
  const Rows x = rows_of(c.in(0));
  const Forest f = forest_of(c.node, "class");
  const Labels labels = labels_of(c.node, "classlabels_strings", "classlabels_int64s");
  const int64_t classes = labels.count();
  const auto base = numbers(c.node, "base_values");
  check_base(base, classes);
  std::vector<int64_t> used;
  bool positive = true;
  for (const TreeNode& n : f.nodes) {
    for (const auto& [target, weight] : n.weights) {
      used.push_back(target);
      positive = positive && weight >= 0;
    }
  }
  std::sort(used.begin(), used.end());
  used.erase(std::unique(used.begin(), used.end()), used.end());
  // Two classes and weights for one of them: its score decides, the other's follows.
  const bool single = classes == 2 && used.size() == 1;
  const std::string how = c.node.text("post_transform", "NONE");
  Classified out;
  for (int64_t r = 0; r < x.count; ++r) {
    auto s = aggregate(f, x.row(r), x.width, classes, "SUM", single ? std::vector<double>() : base);
    if (!single) {
      out.picks.push_back(std::max_element(s.begin(), s.end()) - s.begin());
    } else {
      const double score = s[used[0]] + (base.empty() ? 0 : base.back());
      out.picks.push_back(score > (positive ? 0.5 : 0));
      s = {positive ? 1 - score : -score, score};
    }
    post_transform(how, s);
    out.scores.insert(out.scores.end(), s.begin(), s.end());
  }
  return {labels.tensor(out.picks), matrix(x.count, out.scores)};
}

std::vector<Tensor> tree_ensemble(const EvalContext& c) {
  const Rows x = rows_of(c.in(0));
  const Forest f = forest5_of(c.node);
  const int64_t targets = c.node.integer("n_targets", 1), how = c.node.integer("aggregate_function", 1),
                after = c.node.integer("post_transform", 0);
  const char* aggregates[] = {"AVERAGE", "SUM", "MIN", "MAX"};
  const char* transforms[] = {"NONE", "SOFTMAX", "LOGISTIC", "SOFTMAX_ZERO", "PROBIT"};
  if (targets < 1 || how < 0 || how > 3 || after < 0 || after > 4)
    fail(Category::value, "n_targets {}, aggregate_function {} or post_transform {} is out of range", targets, how, after);
  check_plain_size(targets);
  std::vector<double> y;
  for (int64_t r = 0; r < x.count; ++r) {
    auto s = aggregate(f, x.row(r), x.width, targets, aggregates[how], {});
    post_transform(transforms[after], s);
    y.insert(y.end(), s.begin(), s.end());
  }
  return {narrow<double>(c.in(0).dtype(), Shape{x.count, targets}, y)};
}

// ---- encoders and scalers ----

std::vector<Tensor> array_feature(const EvalContext& c) {
  const Tensor& x = c.in(0);
  const auto picks = integers(c.in(1));
  if (x.rank() < 1) fail(Category::shape, "input is a scalar, expected features along the last dim");
  const int64_t width = x.shape().back(), n = static_cast<int64_t>(picks.size());
  for (int64_t p : picks) {
    if (p < 0 || p >= width) fail(Category::value, "feature {} is outside rows of {}", p, width);
  }
  std::vector<int64_t> from;
  for (int64_t r = 0; r < (width == 0 ? 0 : x.size() / width); ++r) {
    for (int64_t p : picks) from.push_back(r * width + p);
  }
  Shape shape = x.rank() == 1 ? Shape{1, n} : x.shape();
  shape.back() = n;
  return {take(x, shape, from)};
}

// Keys of one kind to values of another, with what holds for keys that are not there.
template <typename K>
std::vector<int64_t> lookup(const std::map<K, int64_t>& table, std::span<const K> keys) {
  std::vector<int64_t> out;
  for (const K& k : keys) {
    const auto it = table.find(k);
    out.push_back(it == table.end() ? -1 : it->second);
  }
  return out;
}

std::map<double, int64_t> number_table(const std::vector<double>& keys) {
  std::map<double, int64_t> t;
  for (size_t i = 0; i < keys.size(); ++i) {
    if (!std::isnan(keys[i])) t.try_emplace(keys[i], static_cast<int64_t>(i));
  }
  return t;
}

// Position of each element among the keys; -1: none. NaN matches NaN.
std::vector<int64_t> positions(const Tensor& x, const Tensor& keys) {
  if (x.dtype() == DType::string) {
    if (keys.dtype() != DType::string) fail(Category::type, "the input is strings, the keys are {}", to_string(keys.dtype()));
    std::map<std::string, int64_t> table;
    for (int64_t i = 0; i < keys.size(); ++i) table.try_emplace(keys.as<std::string>()[i], i);
    return lookup<std::string>(table, x.as<std::string>());
  }
  if (keys.dtype() == DType::string) fail(Category::type, "the input is {}, the keys are strings", to_string(x.dtype()));
  const auto k = widen<double>(keys), v = widen<double>(x);
  auto out = lookup<double>(number_table(k), v);
  const auto nan = std::find_if(k.begin(), k.end(), [](double e) { return std::isnan(e); });
  for (size_t i = 0; i < v.size(); ++i) {
    if (std::isnan(v[i])) out[i] = nan == k.end() ? -1 : nan - k.begin();
  }
  return out;
}

template <typename T>
Tensor list_tensor(const std::vector<T>& v) {
  return Tensor::from<T>({static_cast<int64_t>(v.size())}, v);
}

// A list under any of the attribute's forms: name_strings, name_int64s, name_floats, name_tensor.
Tensor any_list(const Node& n, const std::string& name) {
  if (const auto* t = n.find<Tensor>(name + "_tensor")) return t->reshaped({t->size()});
  if (const auto* v = n.find<std::vector<std::string>>(name + "_strings")) return list_tensor(*v);
  if (const auto* v = n.find<std::vector<int64_t>>(name + "_int64s")) return list_tensor(*v);
  if (const auto* v = n.find<std::vector<float>>(name + "_floats")) return list_tensor(*v);
  return {};
}

struct Encoding {
  Tensor keys, values, otherwise;
};

Encoding encoding_of(const Node& n, int version) {
  if (version < 2) {  // strings to their positions and back
    const Tensor names = list_tensor(strings(n, "classes_strings"));
    std::vector<int64_t> ids(names.size());
    std::iota(ids.begin(), ids.end(), 0);
    return {names, list_tensor(ids), {}};
  }
  Encoding e{any_list(n, "keys"), any_list(n, "values"), {}};
  if (e.keys.empty() || e.values.empty() || e.keys.size() != e.values.size())
    fail(Category::value, "keys and values must both be given, with as many entries");
  if (const auto* t = n.find<Tensor>("default_tensor")) e.otherwise = *t;
  else if (e.values.dtype() == DType::string) e.otherwise = Tensor::from<std::string>({}, {n.text("default_string", "_Unused")});
  else if (e.values.dtype() == DType::i64) e.otherwise = Tensor::from<int64_t>({}, {n.integer("default_int64", -1)});
  else if (e.values.dtype() == DType::f32) e.otherwise = Tensor::from<float>({}, {n.real("default_float", -0.0f)});
  else e.otherwise = narrow<double>(e.values.dtype(), Shape{}, std::vector<double>{is_float(e.values.dtype()) ? -0.0 : -1.0});
  return e;
}

std::vector<Tensor> label_encoder(const EvalContext& c) {
  Encoding e = encoding_of(c.node, c.version);
  if (c.version < 2) {
    const bool backwards = c.in(0).dtype() != DType::string;
    if (backwards) std::swap(e.keys, e.values);
    e.otherwise = backwards ? Tensor::from<std::string>({}, {c.node.text("default_string", "_Unused")})
                            : Tensor::from<int64_t>({}, {c.node.integer("default_int64", -1)});
  }
  return {take(e.values, c.in(0).shape(), positions(c.in(0), e.keys), &e.otherwise)};
}

std::vector<Tensor> category_mapper(const EvalContext& c) {
  const Tensor numbers_list = list_tensor(c.node.integers("cats_int64s")), names = list_tensor(strings(c.node, "cats_strings"));
  if (numbers_list.size() != names.size()) fail(Category::value, "cats_int64s and cats_strings differ in length");
  const bool text = c.in(0).dtype() == DType::string;
  const Tensor otherwise = text ? Tensor::from<int64_t>({}, {c.node.integer("default_int64", -1)})
                                : Tensor::from<std::string>({}, {c.node.text("default_string", "_Unused")});
  return {take(text ? numbers_list : names, c.in(0).shape(), positions(c.in(0), text ? names : numbers_list), &otherwise)};
}

std::vector<Tensor> one_hot_encoder(const EvalContext& c) {
  const bool text = c.node.attributes.contains("cats_strings");
  const Tensor keys = text ? list_tensor(strings(c.node, "cats_strings")) : list_tensor(c.node.integers("cats_int64s"));
  const auto at = positions(c.in(0), keys);
  Shape shape = c.in(0).shape();
  shape.push_back(keys.size());
  check_plain_size(element_count(shape));
  std::vector<double> y(element_count(shape), 0);
  for (size_t i = 0; i < at.size(); ++i) {
    if (at[i] >= 0) y[i * keys.size() + at[i]] = 1;
    else if (!c.node.integer("zeros", 1)) fail(Category::value, "element {} is not one of the categories", i);
  }
  return {narrow<double>(DType::f32, shape, y)};
}

// A value a column, or one for all.
double column(const std::vector<double>& v, int64_t i, double otherwise) {
  return v.empty() ? otherwise : v.size() == 1 ? v[0] : v[i % static_cast<int64_t>(v.size())];
}

void check_columns(size_t count, const Tensor& x, const char* what) {
  const int64_t width = x.rank() == 0 ? 1 : x.shape().back();
  if (count > 1 && static_cast<int64_t>(count) != width) fail(Category::value, "{} has {} entries, rows have {}", what, count, width);
}

std::vector<Tensor> scaler(const EvalContext& c) {
  auto v = widen<double>(c.in(0));
  const auto offset = numbers(c.node, "offset"), scale = numbers(c.node, "scale");
  check_columns(offset.size(), c.in(0), "offset");
  check_columns(scale.size(), c.in(0), "scale");
  for (size_t i = 0; i < v.size(); ++i)
    v[i] = (v[i] - column(offset, static_cast<int64_t>(i), 0)) * column(scale, static_cast<int64_t>(i), 1);
  return {narrow<double>(DType::f32, c.in(0).shape(), v)};
}

std::vector<Tensor> imputer(const EvalContext& c) {
  const Tensor& x = c.in(0);
  auto v = widen<double>(x);
  std::vector<double> fill = numbers(c.node, "imputed_value_floats");
  double missing = c.node.real("replaced_value_float", 0);
  if (is_int(x.dtype())) {
    const auto whole = c.node.integers("imputed_value_int64s");
    fill.assign(whole.begin(), whole.end());
    missing = static_cast<double>(c.node.integer("replaced_value_int64", 0));
  }
  if (fill.empty()) fail(Category::value, "no imputed values are given for an input of {}", to_string(x.dtype()));
  check_columns(fill.size(), x, "the list of imputed values");
  for (size_t i = 0; i < v.size(); ++i) {
    if (v[i] == missing || (std::isnan(v[i]) && std::isnan(missing))) v[i] = column(fill, static_cast<int64_t>(i), 0);
  }
  return {narrow<double>(x.dtype(), x.shape(), v)};
}

std::vector<Tensor> normalizer(const EvalContext& c) {
  Rows x = rows_of(c.in(0));
  const std::string how = c.node.text("norm", "MAX");
  if (how != "MAX" && how != "L1" && how != "L2") fail(Category::value, "norm is '{}', expected MAX, L1 or L2", how);
  for (int64_t r = 0; r < x.count; ++r) {
    double* row = x.v.data() + r * x.width;
    double norm = 0;
    for (int64_t i = 0; i < x.width; ++i)
      norm = how == "MAX" ? std::max(norm, std::fabs(row[i])) : norm + (how == "L1" ? std::fabs(row[i]) : row[i] * row[i]);
    if (how == "L2") norm = std::sqrt(norm);
    for (int64_t i = 0; i < x.width; ++i) row[i] = norm == 0 ? row[i] : row[i] / norm;
  }
  return {narrow<double>(DType::f32, c.in(0).shape(), x.v)};
}

std::vector<Tensor> feature_vectorizer(const EvalContext& c) {
  const auto widths = c.node.integers("inputdimensions");
  std::vector<Tensor> parts;
  for (size_t i = 0; i < c.inputs.size(); ++i) {
    const Tensor& t = c.in(i);
    const Rows x = rows_of(t.rank() == 1 ? t.reshaped({t.size(), 1}) : t);
    if (i < widths.size() && widths[i] != x.width)
      fail(Category::shape, "input {} has rows of {}, inputdimensions says {}", i, x.width, widths[i]);
    parts.push_back(matrix(x.count, x.v));
  }
  return {join(parts, 1)};
}

// ---- maps ----

std::span<const Tensor> entries(const EvalContext& c) {
  if (c.in(0).kind() != Kind::map) fail(Category::type, "input 0 is a {}, expected a map", to_string(c.in(0).kind()));
  return c.in(0).items();
}

// A map's values as one list, whether they are a tensor or a sequence of scalars.
Tensor map_values(const Tensor& values) {
  if (!values.composite()) return values.reshaped({values.size()});
  std::vector<Tensor> flat;
  for (const Tensor& t : values.items()) flat.push_back(t.reshaped({t.size()}));
  return join(flat, 0);
}

std::vector<Tensor> dict_vectorizer(const EvalContext& c) {
  const auto map = entries(c);
  const Tensor vocabulary = c.node.attributes.contains("string_vocabulary") ? list_tensor(strings(c.node, "string_vocabulary"))
                                                                            : list_tensor(c.node.integers("int64_vocabulary"));
  return {take(map_values(map[1]), {vocabulary.size()}, positions(vocabulary, map[0]))};
}

std::vector<Tensor> cast_map(const EvalContext& c) {
  const auto map = entries(c);
  const auto keys = integers(map[0]);
  Tensor values = map_values(map[1]);
  const std::string to = c.node.text("cast_to", "TO_FLOAT"), form = c.node.text("map_form", "DENSE");
  std::vector<size_t> order(keys.size());
  std::iota(order.begin(), order.end(), 0);
  std::sort(order.begin(), order.end(), [&](size_t a, size_t b) { return keys[a] < keys[b]; });
  int64_t width = static_cast<int64_t>(keys.size());
  std::vector<int64_t> from;
  if (form == "SPARSE") {
    width = c.node.integer("max_map", 1);
    if (width < 0) fail(Category::value, "max_map is {}", width);
    check_plain_size(width);
    from.assign(width, -1);
    for (size_t i : order) {
      if (keys[i] < 0 || keys[i] >= width) fail(Category::value, "key {} is outside max_map {}", keys[i], width);
      from[keys[i]] = static_cast<int64_t>(i);
    }
  } else {
    for (size_t i : order) from.push_back(static_cast<int64_t>(i));
  }
  Node n;
  n.op = "Cast";
  n.attributes["to"].data = int64_t{to == "TO_STRING" ? 8 : to == "TO_INT64" ? 7 : 1};
  const Tensor in[] = {values};
  const Tensor cast = find_op("", "Cast", 13)->plain({n, 13, in, 1})[0];
  return {take(cast, {1, width}, from)};
}

std::vector<Tensor> zip_map(const EvalContext& c) {
  const Tensor& x = c.in(0);
  const Labels labels = labels_of(c.node, "classlabels_strings", "classlabels_int64s");
  if (x.rank() != 1 && x.rank() != 2) fail(Category::shape, "input is {}, expected rows of scores", to_string(x.shape()));
  const int64_t width = x.shape().back(), rows = x.rank() == 2 ? x.shape()[0] : 1;
  if (labels.count() != width) fail(Category::value, "{} class labels do not fit rows of {}", labels.count(), width);
  std::vector<int64_t> all(width);
  std::iota(all.begin(), all.end(), 0);
  const Tensor keys = labels.tensor(all);
  std::vector<Tensor> maps;
  for (int64_t r = 0; r < rows; ++r) maps.push_back(Tensor::map(keys, pick(x.reshaped({rows, width}), 0, r)));
  return {Tensor::sequence(std::move(maps))};
}

Type map_of(DType key, DType value) {
  Type inner, map;
  inner.dtype = value;
  map.kind = Type::Kind::map;
  map.dtype = key;
  map.inner.push_back(inner);
  return map;
}

}  // namespace

void add_companion(std::vector<OpDef>& out) {
  const auto add = [&](const char* name, int since, int min, int max, Infer infer, Plain plain, int outputs = 1) -> OpDef& {
    OpDef d = def(name, since, min, max, Trait::opaque, std::move(infer), std::move(plain), outputs);
    d.domain = kDomain;
    out.push_back(std::move(d));
    return out.back();
  };
  const auto scores = [](auto width) { return [width](InferContext& c) { c.set(0, DType::f32, Dims{row_dim(c), width(c)}); }; };
  add(
      "ArrayFeatureExtractor", 1, 2, 2,
      [](InferContext& c) {
        std::optional<Dims> dims = c.dims(0);
        if (dims && dims->size() == 1) dims->insert(dims->begin(), Dim(1));
        if (dims && !dims->empty()) {
          const auto picks = known_shape(c.dims(1));
          dims->back() = picks ? Dim(element_count(*picks)) : Dim();
        }
        c.set(0, c.dtype(0), dims);
      },
      array_feature);
  add("Binarizer", 1, 1, 1, same_as_first, [](const EvalContext& c) -> std::vector<Tensor> {
    auto v = widen<double>(c.in(0));
    for (double& e : v) e = e > c.node.real("threshold", 0) ? 1 : 0;
    return {narrow<double>(c.in(0).dtype(), c.in(0).shape(), v)};
  });
  add(
      "LinearClassifier", 1, 1, 1, [](InferContext& c) { infer_classifier(c, "classlabels_strings", "classlabels_ints"); },
      linear_classifier, 2);
  add("LinearRegressor", 1, 1, 1, scores([](InferContext& c) {
        const int64_t targets = c.node().integer("targets", 1);
        const auto weights = static_cast<int64_t>(floats(c.node(), "coefficients").size());
        c.require(targets <= std::max<int64_t>(1, weights), Category::value,
                  fmt::format("attribute 'targets' is {}, there are {} coefficients", targets, weights));
        return Dim(targets);
      }),
      linear_regressor);
  add(
      "SVMClassifier", 1, 1, 1, [](InferContext& c) { infer_classifier(c, "classlabels_strings", "classlabels_ints"); }, svm_classifier, 2);
  add("SVMRegressor", 1, 1, 1, scores([](InferContext&) { return Dim(1); }), svm_regressor);
  for (const int since : {1, 3}) {
    add(
        "TreeEnsembleClassifier", since, 1, 1, [](InferContext& c) { infer_classifier(c, "classlabels_strings", "classlabels_int64s"); },
        tree_classifier, 2);
    add("TreeEnsembleRegressor", since, 1, 1, scores([](InferContext& c) { return Dim(c.node().integer("n_targets", 1)); }),
        tree_regressor);
  }
  add(
      "TreeEnsemble", 5, 1, 1,
      [](InferContext& c) {
        c.set(0, c.dtype(0), Dims{row_dim(c), Dim(c.node().integer("n_targets", 1))});
      },
      tree_ensemble);
  for (const int since : {1, 2, 4}) {
    add(
        "LabelEncoder", since, 1, 1,
        [](InferContext& c) {
          const DType d = c.version() >= 2                 ? encoding_of(c.node(), c.version()).values.dtype()
                          : c.dtype(0) == DType::string    ? DType::i64
                          : c.dtype(0) == DType::undefined ? DType::undefined
                                                           : DType::string;
          c.set(0, d, c.dims(0));
        },
        label_encoder);
  }
  add(
      "CategoryMapper", 1, 1, 1, [](InferContext& c) { c.set(0, c.dtype(0) == DType::string ? DType::i64 : DType::string, c.dims(0)); },
      category_mapper);
  add(
      "OneHotEncoder", 1, 1, 1,
      [](InferContext& c) {
        std::optional<Dims> dims = c.dims(0);
        if (dims)
          dims->emplace_back(static_cast<int64_t>(c.node().attributes.contains("cats_strings") ? strings(c.node(), "cats_strings").size()
                                                                                               : c.node().integers("cats_int64s").size()));
        c.set(0, DType::f32, dims);
      },
      one_hot_encoder);
  add(
      "Scaler", 1, 1, 1, [](InferContext& c) { c.set(0, DType::f32, c.dims(0)); }, scaler);
  add("Imputer", 1, 1, 1, same_as_first, imputer);
  add(
      "Normalizer", 1, 1, 1, [](InferContext& c) { c.set(0, DType::f32, c.dims(0)); }, normalizer);
  add("FeatureVectorizer", 1, 1, -1, scores([](InferContext& c) {
        const auto widths = c.node().integers("inputdimensions");
        check_plausible(widths, "inputdimensions");
        c.require(static_cast<int>(widths.size()) == c.input_count(), Category::value,
                  fmt::format("attribute 'inputdimensions' has {} entries, the node {} inputs", widths.size(), c.input_count()));
        int64_t width = 0;
        for (int i = 0; i < c.input_count(); ++i) {
          const Dim have = c.rank(i) == 2 ? (*c.dims(i))[1] : c.rank(i) == 1 ? Dim(int64_t{1}) : Dim();
          c.require(widths[i] >= 0 && (!have.known() || have.value == widths[i]), Category::shape,
                    fmt::format("input {} has rows of {}, inputdimensions says {}", i, to_string(have), widths[i]));
          width += widths[i];
        }
        return Dim(width);
      }),
      feature_vectorizer);
  add(
      "DictVectorizer", 1, 1, 1,
      [](InferContext& c) {
        const Type t = c.type(0);
        c.set(0, t.inner.empty() ? DType::undefined : t.inner[0].dtype, Dims(1));
      },
      dict_vectorizer)
      .composites = true;
  add(
      "CastMap", 1, 1, 1,
      [](InferContext& c) {
        const std::string to = c.node().text("cast_to", "TO_FLOAT");
        c.set(0, to == "TO_STRING" ? DType::string : to == "TO_INT64" ? DType::i64 : DType::f32, Dims{Dim(1), Dim()});
      },
      cast_map)
      .composites = true;
  add(
      "ZipMap", 1, 1, 1,
      [](InferContext& c) {
        Type seq;
        seq.kind = Type::Kind::sequence;
        seq.inner.push_back(map_of(c.node().attributes.contains("classlabels_strings") ? DType::string : DType::i64, DType::f32));
        c.set_type(0, seq);
      },
      zip_map)
      .composites = true;
}

}  // namespace lathe::ops
