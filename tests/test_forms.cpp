// Whole networks in the narrow forms that exporters write: no step is left to plain evaluation, and results are as near as the form allows.
#include "forms.hpp"
#include "networks.hpp"
#include "support.hpp"

#include <algorithm>
#include <cmath>
#include <functional>

namespace test {

TEST_CASE("networks in half precision, dynamically quantised, and quantised") {
  std::vector<std::pair<const char*, std::function<Graph()>>> nets{
      {"mobile", [] { return networks::mobile(1, 32); }},
      {"encoder", [] { return networks::encoder(1, 8, 2, 32, 4); }},
      {"skips", [] { return networks::skips(1, 16); }},
      {"recurrent", [] { return networks::recurrent(2, 3); }}};
  if (!sanitized()) {  // minutes of plain evaluation there, by the same steps as the others
    nets.emplace_back("residual", [] { return networks::residual_50(1, 32); });
    nets.emplace_back("nested", [] { return networks::nested(1, 32); });
  }
  struct Form {
    const char* name;
    std::function<Graph(Graph)> make;
    double apart;  // of the largest result: what rounding a few dozen times to the form's numbers adds up to
  };
  const Form forms[]{{"f16", [](Graph g) { return networks::halved(std::move(g)); }, 0.01},
                     {"f16 between casts", [](Graph g) { return networks::halved(std::move(g), DType::f16, true); }, 0.01},
                     {"bf16", [](Graph g) { return networks::halved(std::move(g), DType::bf16); }, 0.08},
                     {"dynamically quantised", [](Graph g) { return networks::dynamically_quantised(std::move(g)); }, 0.05},
                     {"i8 weights", [](Graph g) { return networks::weights_quantised(std::move(g), 8); }, 1e-4},
                     {"i4 weights", [](Graph g) { return networks::weights_quantised(std::move(g), 4); }, 1e-4},
                     {"quantised", [](Graph g) { return networks::quantised(std::move(g)); }, 0.05}};
  for (const auto& [net, make] : nets) {
    for (const Form& form : forms) {
      CAPTURE(net);
      CAPTURE(form.name);
      const Graph g = form.make(make());
      const Program p = compile(g, {.threads = 2});
      for (const StepInfo& s : p.describe().steps) CHECK_MESSAGE(s.kind != "plain", s.op);
      const auto inputs = random_inputs(p, p.bound_shapes(), 3);
      Lane lane(p);
      const Outputs got = lane.run(std::span<const Tensor>(inputs));
      const auto expected = evaluate_plain(g, inputs);
      for (size_t i = 0; i < expected.size(); ++i) {
        double most = 0, apart = 0;
        for (int64_t k = 0; k < expected[i].size(); ++k) {
          const auto at = [&](const Tensor& t) {
            return t.dtype() == DType::f32 ? static_cast<double>(t.as<float>()[k])
                                           : decode_narrow(t.dtype(), static_cast<const uint16_t*>(t.data())[k]);
          };
          most = std::max(most, std::fabs(at(expected[i])));
          apart = std::max(apart, std::fabs(at(expected[i]) - at(got[i])));
        }
        CHECK(most > 0);
        CHECK(apart <= form.apart * most);
      }
    }
  }
}

}  // namespace test
