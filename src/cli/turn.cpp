// lathe turn
#include <filesystem>

#include "common.hpp"

namespace lathe::cli {
namespace {

struct TurnFlags {
  std::string model, write, picture, mean, scale, json;
  std::vector<std::string> inputs, outputs, bind, shapes, freeze, rename, ops;
  bool swap_channels = false, from_u8 = false, from_channels_last = false, write_out = false, allow_outside = false;
  int64_t opset = 0, external_from = 0;
};

// "1,3,height,?": sizes, names, open dims.
Dims parse_dims(const std::string& text) {
  Dims dims;
  if (text == "scalar") return dims;
  for (const std::string& part : split(text, ',')) {
    if (part == "?") dims.emplace_back();
    else if (!part.empty() && part.find_first_not_of("0123456789") == std::string::npos) dims.emplace_back(parse_size(part, "--shape"));
    else if (!part.empty() && part[0] != '-') dims.emplace_back(part);
    else throw UsageError(fmt::format("--shape: '{}' is neither a size, a name nor '?'", part));
  }
  return dims;
}

Json ports_json(const Graph& g, const std::vector<ValueId>& list) {
  Json out = Json::array();
  for (ValueId v : list)
    out.push_back({{"name", g.values[v].name}, {"type", to_string(type_of(g.values[v]))}, {"shape", to_json(g.values[v].dims)}});
  return out;
}

}  // namespace

Command add_turn(CLI::App& app) {
  auto o = std::make_shared<TurnFlags>();
  app.add_option("MODEL", o->model, "ONNX file")->required();
  app.add_option("-o,--write", o->write, "Where the shaped model goes")->required()->type_name("FILE");
  const auto many = [&](const char* name, std::vector<std::string>& target, const char* what, const char* type) {
    app.add_option(name, target, what)->type_name(type)->allow_extra_args(false);
  };
  many("--input", o->inputs, "Start here: any value becomes an input (repeatable; all of them then)", "NAME");
  many("--output", o->outputs, "End here: any value becomes an output (repeatable)", "NAME");
  many("--bind", o->bind, "Give a symbolic dim a size, e.g. batch=8 (repeatable)", "NAME=N");
  many("--shape", o->shapes, "Another shape for an input: sizes, names, or ?, e.g. image=batch,3,64,64 (repeatable)", "INPUT=D,D,..");
  many("--freeze", o->freeze, "Make an input a constant (repeatable)", "INPUT=FILE");
  many("--rename", o->rename, "Rename an input, output or value between (repeatable)", "OLD=NEW");
  app.add_option("--picture", o->picture, "Put preprocessing in front of this input of N x C x H x W; the options below say which")
      ->type_name("INPUT");
  app.add_option("--mean", o->mean, "Subtracted from each pixel: one value, or one a channel")->type_name("X,X,..");
  app.add_option("--scale", o->scale, "Then multiplied: one value, or one a channel")->type_name("X,X,..");
  app.add_flag("--swap-channels", o->swap_channels, "The first and third channel change places");
  app.add_flag("--from-u8", o->from_u8, "The input takes bytes");
  app.add_flag("--from-channels-last", o->from_channels_last, "The input takes N x H x W x C");
  app.add_option("--opset", o->opset, "Carry the model over to a newer opset")->check(CLI::Range(1, 99))->type_name("N");
  app.add_flag("--write-out-functions", o->write_out, "Replace calls of model-local functions by their nodes");
  app.add_option("--external-from", o->external_from, "Initializers of at least N bytes go to a file beside the model (FILE.data)")
      ->check(zero_or_more())
      ->type_name("N");
  app.add_flag("--allow-outside-data", o->allow_outside, "Accept external data from outside the model's folder");
  add_ops_option(app, o->ops);
  add_json_option(app, o->json);
  app.footer(
      "Steps are taken in the order of the options above. The result is checked before it is written;\n"
      "the model itself is left alone.");
  return [o] {
    std::vector<std::string> read{o->model};
    read.insert(read.end(), o->ops.begin(), o->ops.end());
    for (const std::string& text : o->freeze) read.push_back(split_pair(text, "--freeze").second);
    check_target("--write", o->write, {kModelFile}, read);
    check_target("--json", o->json, {"JSON"}, read);
    std::error_code ec;
    if (o->external_from > 0 && std::filesystem::exists(o->write + ".data", ec) && !std::filesystem::exists(o->write, ec))
      throw UsageError(fmt::format("--external-from: there is a file {}.data already, and no {} that it belongs to", o->write, o->write));
    for (const std::string& path : o->ops) load_ops(path);
    const bool line = std::filesystem::path(o->model).extension() == ".toml";
    Graph g = load_model(o->model, {o->allow_outside, false});
    const size_t nodes = g.nodes.size();
    std::vector<std::string> done;
    if (!o->inputs.empty() || !o->outputs.empty()) {
      as_usage([&] { cut(g, o->inputs, o->outputs); });
      done.push_back(fmt::format("cut to {} of {} nodes", g.nodes.size(), nodes));
    }
    std::map<std::string, int64_t> sizes;
    for (const std::string& text : o->bind) {
      const auto [name, value] = split_pair(text, "--bind");
      sizes[name] = parse_size(value, "--bind");
    }
    if (!sizes.empty()) {
      as_usage([&] { bind_dims(g, sizes); });
      for (const auto& [name, size] : sizes) done.push_back(fmt::format("dim {} is {}", name, size));
    }
    for (const std::string& text : o->shapes) {
      const auto [name, value] = split_pair(text, "--shape");
      as_usage([&] { set_input_dims(g, name, parse_dims(value)); });
      done.push_back(fmt::format("input {} is {}", name, to_string(parse_dims(value))));
    }
    for (const std::string& text : o->freeze) {
      const auto [name, path] = split_pair(text, "--freeze");
      const Tensor constant = read_value(path, "--freeze");
      as_usage([&] { freeze_input(g, name, constant); });
      done.push_back(fmt::format("input {} is a constant", name));
    }
    std::map<std::string, std::string> names;
    for (const std::string& text : o->rename) {
      const auto [from, to] = split_pair(text, "--rename");
      names[from] = to;
    }
    std::string picture = o->picture;
    if (!names.empty()) {
      as_usage([&] { rename_values(g, names); });
      for (const auto& [from, to] : names) done.push_back(fmt::format("{} is now {}", from, to));
      if (names.contains(picture)) picture = names[picture];
    }
    const Preprocessing how{number_list(o->mean, "--mean"), number_list(o->scale, "--scale"), o->swap_channels, o->from_u8,
                            o->from_channels_last};
    const bool any = !how.mean.empty() || !how.scale.empty() || how.swap_channels || how.from_u8 || how.from_channels_last;
    if (any && picture.empty())
      throw UsageError("--mean, --scale, --swap-channels, --from-u8 and --from-channels-last need --picture INPUT");
    if (!picture.empty()) {
      if (!any) throw UsageError("--picture needs at least one of --mean, --scale, --swap-channels, --from-u8 and --from-channels-last");
      if (const auto scale = g.metadata.find("scale"); scale != g.metadata.end() && !how.mean.empty() && how.scale.empty())
        throw UsageError(fmt::format("--mean: the scale in the metadata belongs behind it; put it inside too: --scale {}", scale->second));
      as_usage([&] { embed_preprocessing(g, picture, how); });
      done.push_back(fmt::format("preprocessing of {} is inside", picture));
    }
    if (o->write_out && !g.functions.empty()) {
      done.push_back(fmt::format("{} functions written out", g.functions.size()));
      inline_functions(g);
      infer(g);
    }
    if (o->opset > 0) {
      const int64_t before = g.opset("");
      convert_opset(g, o->opset);
      done.push_back(fmt::format("opset {} to {}", before, o->opset));
    }
    if (line) done.insert(done.begin(), "parts joined to one graph");
    if (done.empty()) throw UsageError("nothing to do; see 'lathe turn --help'");
    save(g, o->write, {static_cast<size_t>(o->external_from)});
    write_json(o->json, {{"model", o->model},
                         {"written", o->write},
                         {"changes", done},
                         {"nodes", g.nodes.size()},
                         {"opset", g.opset("")},
                         {"inputs", ports_json(g, g.inputs)},
                         {"outputs", ports_json(g, g.outputs)}});
    if (!for_people(o->json)) return kGood;
    Table t("ll");
    for (const std::string& d : done) t.row({"done", d});
    for (ValueId v : g.inputs) t.row({"input", g.values[v].name + "  " + to_string(type_of(g.values[v]))});
    for (ValueId v : g.outputs) t.row({"output", g.values[v].name + "  " + to_string(type_of(g.values[v]))});
    t.row({"nodes", fmt::format("{} (were {})", g.nodes.size(), nodes)});
    fmt::print("{}\n{}", o->write, t.text());
    return kGood;
  };
}

}  // namespace lathe::cli
