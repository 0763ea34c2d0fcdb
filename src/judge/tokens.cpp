// Tokens that a model says.
#include <algorithm>
#include <cmath>
#include <numeric>

#include "base/fail.hpp"
#include "lathe/judge_pictures.hpp"
#include "tensor/widen.hpp"

namespace lathe {

TokenAnswer token_answer(std::string item, const Tensor& scores, const Tensor& expected) {
  const auto tokens = widen<int64_t>(expected);
  const Shape& s = scores.shape();
  if (s.size() != 3 || s[0] != 1 || s[1] != static_cast<int64_t>(tokens.size()) || !is_float(scores.dtype()))
    fail(Category::shape, "'{}': the output is {} of {}, expected scores [1, {}, vocabulary]", item, to_string(scores.dtype()),
         to_string(s), tokens.size());
  const auto v = widen<double>(scores);
  const auto vocabulary = static_cast<size_t>(s[2]);
  TokenAnswer a{std::move(item)};
  for (size_t t = 0; t < tokens.size(); ++t) {
    if (tokens[t] < 0) continue;
    if (tokens[t] >= s[2]) fail(Category::value, "'{}': token {} is beyond the vocabulary of {}", a.item, tokens[t], s[2]);
    const auto row = std::span<const double>(v).subspan(t * vocabulary, vocabulary);
    const double most = *std::ranges::max_element(row);
    double sum = 0;
    for (double x : row) sum += std::exp(x - most);
    a.loss += std::log(sum) + most - row[static_cast<size_t>(tokens[t])];
    a.right += row[static_cast<size_t>(tokens[t])] == most;
    ++a.count;
  }
  return a;
}

TokenReport judge_tokens(std::span<const TokenAnswer> answers) {
  TokenReport r;
  r.items = static_cast<int64_t>(answers.size());
  for (const TokenAnswer& a : answers) r.tokens += a.count;
  const auto over = [&](auto measure) {
    return bootstrap(answers.size(), [&](std::span<const size_t> drawn) {
      double loss = 0, count = 0, right = 0;
      for (size_t i : drawn)
        loss += answers[i].loss, count += static_cast<double>(answers[i].count), right += static_cast<double>(answers[i].right);
      return count > 0 ? measure(loss, count, right) : 0.0;
    });
  };
  r.perplexity = over([](double loss, double count, double) { return std::exp(loss / count); });
  r.right = over([](double, double count, double right) { return right / count; });
  r.exact = share_of(std::ranges::count_if(answers, &TokenAnswer::exact), r.items);
  r.worst.resize(answers.size());
  std::iota(r.worst.begin(), r.worst.end(), size_t{0});
  std::ranges::stable_sort(r.worst, std::greater<>(),
                           [&](size_t i) { return answers[i].loss / static_cast<double>(std::max<int64_t>(1, answers[i].count)); });
  return r;
}

}  // namespace lathe
