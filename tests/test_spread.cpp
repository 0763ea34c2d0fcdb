// Items shared out among ranks: who gets what, what falls silent, what is kept in a checkpoint; and that answers are those of one process.
#include <condition_variable>
#include <mutex>
#include <set>
#include <thread>

#include "spread/pieces.hpp"
#include "support.hpp"

using namespace test;
using spread::Piece;
using spread::Pieces;

namespace {

// Ranks that are threads of this process.
struct Post {
  std::mutex mutex;
  std::condition_variable came;
  std::vector<std::deque<Ranks::Message>> boxes;
};
class Thread : public Ranks {
 public:
  Thread(Post& post, int rank) : post_(post), rank_(rank) {}
  int rank() const override { return rank_; }
  int count() const override { return static_cast<int>(post_.boxes.size()); }
  void send(int to, std::string_view message) override {
    const std::lock_guard hold(post_.mutex);
    post_.boxes[static_cast<size_t>(to)].push_back({rank_, std::string(message)});
    post_.came.notify_all();
  }
  std::optional<Message> receive(double seconds) override {
    std::unique_lock hold(post_.mutex);
    auto& box = post_.boxes[static_cast<size_t>(rank_)];
    if (!post_.came.wait_for(hold, std::chrono::duration<double>(seconds), [&] { return !box.empty(); })) return std::nullopt;
    Message m = std::move(box.front());
    box.pop_front();
    return m;
  }
  void end(bool everyone) override { together = everyone; }
  std::optional<bool> together;

 private:
  Post& post_;
  int rank_;
};

// Calls `each(ranks)` on so many ranks at once; what it throws on rank 0 is thrown here.
void on_ranks(int count, const std::function<void(const std::shared_ptr<Thread>&)>& each) {
  Post post;
  post.boxes.resize(static_cast<size_t>(count));
  std::vector<std::thread> others;
  for (int r = 1; r < count; ++r) {
    others.emplace_back([&, r] {
      try {
        each(std::make_shared<Thread>(post, r));
      } catch (const Error&) {  // rank 0 has ended the job
      }
    });
  }
  std::exception_ptr thrown;
  try {
    each(std::make_shared<Thread>(post, 0));
  } catch (...) {
    thrown = std::current_exception();
  }
  for (std::thread& t : others) t.join();
  if (thrown) std::rethrow_exception(thrown);
}

std::string text_of(size_t begin, size_t end) {
  std::string text;
  for (size_t i = begin; i < end; ++i) text += std::to_string(i * i) + " ";
  return text;
}

[[noreturn]] void fail_with(const std::string& what) { throw Error(Category::value, what); }

}  // namespace

TEST_CASE("pieces cover every item once, in multiples, and get shorter") {
  for (const size_t multiple : {size_t{1}, size_t{8}}) {
    Pieces pieces(1000, multiple, 4);
    std::set<size_t> seen;
    std::vector<size_t> lengths;
    double now = 0;
    for (int rank = 0; !pieces.all_done(); rank = (rank + 1) % 4, now += 0.01) {
      const auto p = pieces.next(rank, now);
      if (!p) break;
      CHECK(p->begin % multiple == 0);
      CHECK((p->end % multiple == 0 || p->end == 1000));
      for (size_t i = p->begin; i < p->end; ++i) CHECK(seen.insert(i).second);
      lengths.push_back(p->end - p->begin);
      CHECK(pieces.give(rank, *p, now + 0.01));
      CHECK(!pieces.give(rank, *p, now + 0.01));
    }
    CHECK(seen.size() == 1000);
    CHECK(pieces.all_done());
    CHECK(pieces.silent().empty());
    CHECK(lengths.front() > 4 * lengths.back());
    CHECK(lengths.front() <= 1000 / 16);  // nobody has most of it
  }
}

TEST_CASE("what is late is given to another rank, and whoever is first counts") {
  Pieces pieces(8, 4, 2);
  const Piece a = *pieces.next(1, 0), b = *pieces.next(0, 0);
  CHECK(pieces.give(0, b, 1));
  CHECK(!pieces.next(0, 1.5));  // 1 s is what pieces take
  const auto again = pieces.next(0, 4.5);
  REQUIRE(again);
  CHECK(*again == a);
  CHECK(pieces.again() == 4);
  CHECK(!pieces.next(0, 100));  // it has it already
  CHECK(pieces.give(0, a, 5));
  CHECK(pieces.all_done());
  CHECK(pieces.silent() == std::vector<int>{1});
  CHECK(!pieces.give(1, a, 6));
  CHECK(pieces.silent().empty());
  // Held already: gaps alone are given out.
  Pieces rest(10, 1, 1, {{0, 3}, {5, 9}});
  CHECK(rest.items_done() == 7);
  std::set<size_t> left;
  while (const auto p = rest.next(0, 0)) {
    for (size_t i = p->begin; i < p->end; ++i) left.insert(i);
    rest.give(0, *p, 0);
  }
  CHECK(left == std::set<size_t>{3, 4, 9});
}

TEST_CASE("results are those of one process, whatever the number of ranks") {
  for (const int count : {1, 2, 5}) {
    CAPTURE(count);
    on_ranks(count, [&](const std::shared_ptr<Thread>& ranks) {
      for (const bool everyone : {false, true}) {
        std::vector<std::string> got(200);
        size_t taken = 0;
        const Shared s =
            share_out({.ranks = ranks, .everyone = everyone}, got.size(), 3, text_of, [&](size_t begin, size_t end, std::string_view text) {
              std::string_view rest = text;
              for (size_t i = begin; i < end; ++i, ++taken) {
                got[i] = rest.substr(0, rest.find(' '));
                rest.remove_prefix(got[i].size() + 1);
              }
            });
        if (ranks->rank() == 0) CHECK(s.all() == 200);
        if (ranks->rank() == 0 || everyone) {
          CHECK(taken == 200);
          for (size_t i = 0; i < got.size(); ++i) CHECK(got[i] == std::to_string(i * i));
        } else {
          CHECK(taken == 0);
        }
      }
      CHECK(part_ways(*ranks));
      CHECK(ranks->together == true);
    });
  }
}

TEST_CASE("a rank that falls silent loses nothing; what it throws ends the job") {
  on_ranks(3, [](const std::shared_ptr<Thread>& ranks) {
    if (ranks->rank() == 2) {
      // It asks for a piece as the others do, and is never heard of again.
      try {
        share_out(
            {.ranks = ranks}, 60, 1, [](size_t, size_t) -> std::string { throw 1; }, [](size_t, size_t, std::string_view) {});
      } catch (int) {
      }
      return;
    }
    size_t taken = 0;
    const auto slow = [](size_t begin, size_t end) {
      std::this_thread::sleep_for(std::chrono::milliseconds(2));
      return text_of(begin, end);
    };
    const Shared s = share_out({.ranks = ranks}, 60, 1, slow, [&](size_t begin, size_t end, std::string_view) { taken += end - begin; });
    if (ranks->rank() > 0) return;
    CHECK(taken == 60);
    CHECK(s.again > 0);
    CHECK(s.silent == std::vector<int>{2});
    CHECK(s.items[2] == 0);
  });
  const std::string said = error_of([] {
    on_ranks(3, [](const std::shared_ptr<Thread>& ranks) {
      const auto work = [&](size_t begin, size_t end) {
        if (ranks->rank() == 1) fail_with("the file is gone");
        std::this_thread::sleep_for(std::chrono::milliseconds(20));
        return text_of(begin, end);
      };
      share_out({.ranks = ranks}, 500, 1, work, [](size_t, size_t, std::string_view) {});
    });
  });
  CHECK(has(said, "rank 1: the file is gone"));
}

TEST_CASE("a checkpoint: what is finished is not done again, what is torn is, another job's is refused") {
  const Folder at;
  const fs::path folder = at.path, file = folder / "done";
  size_t worked = 0;
  const auto run = [&](const std::string& job, size_t fail_behind) {
    std::map<size_t, std::string> got;
    worked = 0;
    const auto work = [&](size_t begin, size_t end) {
      if (worked >= fail_behind) fail_with("the power is gone");
      worked += end - begin;
      return text_of(begin, end);
    };
    const Shared s = share_out({.checkpoint = file, .job = job}, 100, 5, work, [&](size_t begin, size_t end, std::string_view text) {
      CHECK(got.emplace(begin, text).second);
      CHECK(text == text_of(begin, end));
    });
    size_t all = 0;
    for (const auto& [begin, text] : got) all += static_cast<size_t>(std::count(text.begin(), text.end(), ' '));
    CHECK(all == 100);
    return s;
  };
  CHECK(has(error_of([&] { run("a", 50); }), "the power is gone"));
  const size_t before = worked;
  CHECK(before >= 50);
  const Shared s = run("a", 1000);
  CHECK(s.resumed == static_cast<int64_t>(before));
  CHECK(worked == 100 - before);
  CHECK(run("a", 0).resumed == 100);
  CHECK(has(error_of([&] { run("b", 1000); }), "is of another job"));
  // The end torn off, and a changed byte: what stands before them counts.
  const auto whole = fs::file_size(file);
  fs::resize_file(file, whole - 3);
  CHECK(run("a", 1000).resumed < 100);
  CHECK(fs::file_size(file) == whole);
  {
    std::fstream f(file, std::ios::in | std::ios::out | std::ios::binary);
    f.seekp(static_cast<std::streamoff>(whole / 2));
    f.put('\x7f');
  }
  const Shared damaged = run("a", 1000);
  CHECK(damaged.resumed > 0);
  CHECK(damaged.resumed < 100);
  std::ofstream(folder / "notes") << "these are somebody's notes\n";
  CHECK(has(error_of([&] { share_out({.checkpoint = folder / "notes"}, 1, 1, text_of, [](size_t, size_t, std::string_view) {}); }),
            "is no checkpoint"));
  CHECK(fs::file_size(folder / "notes") == 27);
  CHECK(has(error_of([&] { share_out({.checkpoint = folder / "no" / "where"}, 1, 1, text_of, [](size_t, size_t, std::string_view) {}); }),
            "cannot be written"));
}

TEST_CASE("judged by several ranks: the answers of one, failures too") {
  Builder b("scores");
  b.output(b.op("MatMul", {b.input("x", DType::f32, {1, 4}), b.constant("w", random_tensor({4, 3}, 5))}), "y");
  const Program p = compile(b.finish(), {.threads = 1});
  ItemData data;
  data.arrays.push_back({"", random_tensor({57, 4}, 7)});
  data.items = 57;
  data.targets = Tensor(DType::i64, {57});
  for (size_t i = 0; i < 57; ++i) data.targets.as<int64_t>()[i] = static_cast<int64_t>(i % 3);
  const std::vector<Shape> shapes{{1, 4}};
  const Judgement alone = judge(p, data, shapes, {.items = {.lanes = 1}});
  on_ranks(3, [&](const std::shared_ptr<Thread>& ranks) {
    const Judgement j = judge(p, data, shapes, {.items = {.lanes = 1, .share = {.ranks = ranks}}});
    CHECK(j.run.elsewhere == (ranks->rank() > 0));
    if (ranks->rank() > 0) return;
    REQUIRE(j.answers.size() == alone.answers.size());
    for (size_t i = 0; i < j.answers.size(); ++i) {
      CHECK(j.answers[i].item == alone.answers[i].item);
      CHECK(j.answers[i].expected == alone.answers[i].expected);
      CHECK(j.answers[i].best == alone.answers[i].best);
      CHECK(j.answers[i].scores == alone.answers[i].scores);
    }
  });
  // Items that cannot be loaded are told with the same words.
  const auto load = [&](size_t i) -> std::vector<Tensor> {
    if (i % 10 == 3) fail_with("item " + std::to_string(i) + " is broken");
    return {random_tensor({1, 4}, i)};
  };
  std::vector<double> sums(57);
  const auto take = [&](size_t i, const std::vector<Tensor>& out) { sums[i] = out[0].as<float>()[0]; };
  const ItemsRun one = run_items(p, shapes, 57, load, take, {.lanes = 1});
  on_ranks(2, [&](const std::shared_ptr<Thread>& ranks) {
    std::vector<double> own(57);
    const AnswerForm form{[&](size_t i) { return std::string(reinterpret_cast<const char*>(&own[i]), sizeof(double)); },
                          [&](size_t i, std::string_view bytes) { std::memcpy(&own[i], bytes.data(), sizeof(double)); }};
    const ItemsRun run = run_items(p, shapes, 57, load, [&](size_t i, const std::vector<Tensor>& out) { own[i] = out[0].as<float>()[0]; },
                                   form, {.lanes = 1, .share = {.ranks = ranks}});
    if (ranks->rank() > 0) return;
    CHECK(run.failed == one.failed);
    CHECK(own == sums);
  });
}

TEST_CASE("ranks that are not there are told of") {
  CHECK(has(error_of([] { load_ranks("pigeons"); }), "is no kind of ranks: expected mpi"));
  const Folder folder;
  const fs::path file = folder.path / "notes.so";
  std::ofstream(file) << "no library\n";
  CHECK(has(error_of([&] { load_ranks(file.string()); }), "cannot be loaded"));
}
