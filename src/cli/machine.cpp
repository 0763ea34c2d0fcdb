// lathe machine
#include "common.hpp"

namespace lathe::cli {

Command add_machine(CLI::App& app) {
  struct Options {
    int threads = 0;
    bool quick = false;
    std::string json;
  };
  auto o = std::make_shared<Options>();
  app.add_option("--threads", o->threads, "Measure for 1 to N threads (all usable cores)")->check(CLI::Range(1, 1024))->type_name("N");
  app.add_flag("--no-measure", o->quick, "Only say what the machine is");
  add_json_option(app, o->json);
  return [o] {
    check_target("--json", o->json, {"JSON"}, {});
    const MachineInfo m = machine_info();
    Limits limits;
    if (!o->quick) {
      Progress progress;
      limits = measure_limits(o->threads, [&](const std::string& what) { progress.show("measuring: " + what); });
    }
    Json j{{"cpu", m.cpu},
           {"cores", m.cores},
           {"usable_cores", m.usable},
           {"memory_bytes", m.memory_bytes},
           {"instruction_sets", m.isas},
           {"used", m.isas.back()},
           {"int8_dot", m.int8_dot}};
    for (const CacheInfo& c : m.caches) j["caches"].push_back({{"level", c.level}, {"bytes", c.bytes}, {"shared_by", c.shared_by}});
    for (const auto& f : limits.fma) j["fma"].push_back({{"isa", f.isa}, {"threads", f.threads}, {"gflops", f.gflops}});
    for (const auto& f : limits.int8) j["int8"].push_back({{"isa", f.isa}, {"threads", f.threads}, {"gops", f.gops}});
    for (const auto& f : limits.bf16) j["bf16"].push_back({{"isa", f.isa}, {"threads", f.threads}, {"gflops", f.gflops}});
    for (const auto& r : limits.read)
      j["read"].push_back({{"level", r.level}, {"bytes_a_thread", r.bytes}, {"threads", r.threads}, {"gbytes_per_second", r.gbytes}});
    write_json(o->json, j);
    if (!for_people(o->json)) return static_cast<int>(kGood);

    Table facts("ll");
    facts.row({"processor", m.cpu});
    facts.row({"cores", fmt::format("{} usable of {}", m.usable, m.cores)});
    facts.row({"instruction sets",
               fmt::format("{} (used: {}){}", fmt::join(m.isas, ", "), m.isas.back(), m.int8_dot ? ", 8-bit dot product" : "")});
    for (const CacheInfo& c : m.caches)
      facts.row(
          {fmt::format("L{} cache", c.level), fmt::format("{}{}", bytes_text(static_cast<double>(c.bytes)),
                                                          c.shared_by > 1 ? fmt::format(", shared by {} cores", c.shared_by) : " a core")});
    facts.row({"memory", bytes_text(static_cast<double>(m.memory_bytes))});
    fmt::print("Machine\n{}", facts.text());
    if (o->quick) return static_cast<int>(kGood);

    const int threads = limits.fma.empty() ? 1 : limits.fma.back().threads;
    std::vector<std::string> head{""};
    std::string alignment = "l";
    for (int t = 1; t <= threads; ++t) {
      head.push_back(fmt::format("{} thread{}", t, t == 1 ? "" : "s"));
      alignment += 'r';
    }
    Table rates(alignment, head);
    for (size_t i = 0; i < limits.fma.size(); i += threads) {
      std::vector<std::string> row{"fp32 multiply-add, " + limits.fma[i].isa};
      for (int t = 0; t < threads; ++t) row.push_back(fmt::format("{:.1f} GFLOP/s", limits.fma[i + t].gflops));
      rates.row(row);
    }
    for (size_t i = 0; i < limits.int8.size(); i += threads) {
      std::vector<std::string> row{fmt::format("int8 {}, {}", limits.int8[i].isa == "amx" ? "tiles" : "dot product", limits.int8[i].isa)};
      for (int t = 0; t < threads; ++t) row.push_back(fmt::format("{:.1f} GOP/s", limits.int8[i + t].gops));
      rates.row(row);
    }
    for (size_t i = 0; i < limits.bf16.size(); i += threads) {
      std::vector<std::string> row{"bf16 tiles, " + limits.bf16[i].isa};
      for (int t = 0; t < threads; ++t) row.push_back(fmt::format("{:.1f} GFLOP/s", limits.bf16[i + t].gflops));
      rates.row(row);
    }
    for (size_t i = 0; i < limits.read.size(); i += threads) {
      std::vector<std::string> row{
          fmt::format("read {}, {} a thread", limits.read[i].level, bytes_text(static_cast<double>(limits.read[i].bytes)))};
      for (int t = 0; t < threads; ++t) row.push_back(fmt::format("{:.1f} GB/s", limits.read[i + t].gbytes));
      rates.row(row);
    }
    fmt::print("\nMeasured limits (best of five bursts)\n{}", rates.text());
    return static_cast<int>(kGood);
  };
}

}  // namespace lathe::cli
