// Four exported models joined to a line write a job card from a picture of a board and a few words.
//   write_cards demo/jobcard demo/jobcard/boards/board_00.png "order 358, door, Tomas:"
#include <cstdio>
#include <string>

#include "lathe/lathe.hpp"

int main(int argc, char** argv) {
  if (argc != 4) {
    std::fprintf(stderr, "usage: write_cards FOLDER PICTURE WORDS\n");
    return 2;
  }
  try {
    const std::filesystem::path folder = argv[1];
    lathe::Line line;
    line.parts.push_back({.name = "encoder", .model = lathe::load(folder / "encoder.onnx")});
    line.parts.push_back({.name = "merger", .model = lathe::load(folder / "merger.onnx"), .takes = {{"cells", "encoder.cells"}}});
    line.parts.push_back({.name = "words", .model = lathe::load(folder / "words.onnx"), .takes = {{"tokens", "tokens"}}});
    // Where a token is this one, a row of the picture takes its place.
    constexpr int64_t kMark = 48;
    line.parts.push_back({.name = "insert",
                          .op = "insert",
                          .operands = {{"words.embeddings", {}}, {"tokens", {}}, {"merger.rows", {}}},
                          .attributes = {{"mark", kMark}}});
    line.parts.push_back({.name = "decoder",
                          .model = lathe::load(folder / "decoder.onnx"),
                          .takes = {{"embeddings", "insert"}},
                          .states = "present.*=past.*"});
    lathe::Graph graph = lathe::join(line);

    // What the picture alone decides is made once, not with every token.
    lathe::CompileOptions options;
    options.states = lathe::find_states(graph);
    options.once = {"board"};
    const lathe::Program program = lathe::compile(std::move(graph), options);
    const lathe::Tensor pixels = lathe::read_picture(argv[2]);
    const lathe::PictureWay way =
        lathe::picture_way({}, program.once(), pixels.shape()[0], pixels.shape()[1], lathe::size_multiple(program.metadata()));
    const lathe::Tensor board = lathe::picture_to_tensor(pixels, way.options);
    lathe::Lane once(program.once());
    const lathe::Outputs seen = once.run({{"board", board}});

    lathe::Roles roles;
    for (size_t i = 0; i < seen.size(); ++i) roles.beside.push_back(seen.name(i));
    lathe::Generator generator(program, roles);
    for (size_t i = 0; i < seen.size(); ++i) generator.give(seen.name(i), seen[i]);
    const auto vocabulary = lathe::Vocabulary::of(program.metadata()).value();
    std::vector<int64_t> prompt{*vocabulary.special("begin")};
    prompt.insert(prompt.end(), static_cast<size_t>(seen["insert/rows"].shape()[0] - 1), kMark);  // its first row is for no mark
    for (const int64_t token : vocabulary.encode(argv[3])) prompt.push_back(token);
    lathe::GenerateOptions how;
    how.stop_tokens = {*vocabulary.special("end")};
    const lathe::Generated card = generator.run(prompt, how);
    std::printf("%s%s\n", argv[3], vocabulary.decode(card.tokens).c_str());
  } catch (const lathe::Error& e) {
    std::fprintf(stderr, "%s\n", e.what());
    return 1;
  }
}
