// The file: tables, versions, transactions.
#include <fmt/format.h>
#include <sqlite3.h>
#define XXH_INLINE_ALL
#include <xxhash.h>

#include <cstring>
#include <ctime>
#include <fstream>

#include "base/fail.hpp"
#include "base/files.hpp"
#include "lathe/logbook.hpp"

namespace lathe {
namespace {

namespace fs = std::filesystem;

constexpr int kApplication = 0x4C617468;  // "Lath": tells our files from other databases
constexpr int kWaitMilliseconds = 20000;  // for another process that writes

// From one version of the tables to the next; the last is the current one.
constexpr const char* kVersions[]{
    // 1
    "CREATE TABLE entries(id INTEGER PRIMARY KEY AUTOINCREMENT, at TEXT NOT NULL, kind TEXT NOT NULL, machine TEXT NOT NULL,"
    " version TEXT NOT NULL, model TEXT NOT NULL, hash TEXT NOT NULL, options TEXT NOT NULL, details TEXT NOT NULL);"
    "CREATE TABLE figures(entry INTEGER NOT NULL REFERENCES entries(id) ON DELETE CASCADE, name TEXT NOT NULL, value REAL NOT NULL,"
    " low REAL, high REAL, unit TEXT NOT NULL, samples BLOB, PRIMARY KEY(entry, name)) WITHOUT ROWID;",
    // 2: histories are read by model
    "CREATE INDEX entries_by_model ON entries(model, kind, id);",
    // 3: what was tuned
    "CREATE TABLE problems(id INTEGER PRIMARY KEY AUTOINCREMENT, machine TEXT NOT NULL, isa TEXT NOT NULL, threads INTEGER NOT NULL,"
    " problem TEXT NOT NULL, UNIQUE(machine, isa, threads, problem));"
    "CREATE TABLE recipes(problem INTEGER PRIMARY KEY REFERENCES problems(id) ON DELETE CASCADE, at TEXT NOT NULL, version TEXT NOT NULL,"
    " recipe TEXT NOT NULL, gain REAL NOT NULL, low REAL NOT NULL, high REAL NOT NULL, seconds REAL NOT NULL, trials INTEGER NOT NULL);"
    "CREATE TABLE trials(problem INTEGER NOT NULL REFERENCES problems(id) ON DELETE CASCADE, recipe TEXT NOT NULL, ratio REAL NOT NULL,"
    " seconds REAL NOT NULL, PRIMARY KEY(problem, recipe)) WITHOUT ROWID;",
};
constexpr int kCurrent = static_cast<int>(std::size(kVersions));

class Query {
 public:
  Query(sqlite3* db, const std::string& path, const std::string& sql) : db_(db), path_(path) {
    if (sqlite3_prepare_v2(db, sql.c_str(), -1, &s_, nullptr) != SQLITE_OK) broken();
  }
  ~Query() { sqlite3_finalize(s_); }
  Query(const Query&) = delete;
  Query& operator=(const Query&) = delete;

  Query& bind(const std::string& text) {
    check(sqlite3_bind_text(s_, ++at_, text.data(), static_cast<int>(text.size()), SQLITE_TRANSIENT));
    return *this;
  }
  Query& bind(int64_t v) {
    check(sqlite3_bind_int64(s_, ++at_, v));
    return *this;
  }
  Query& bind(double v) {
    check(sqlite3_bind_double(s_, ++at_, v));
    return *this;
  }
  Query& bind(const std::optional<double>& v) {
    check(v ? sqlite3_bind_double(s_, ++at_, *v) : sqlite3_bind_null(s_, ++at_));
    return *this;
  }
  Query& bind(const std::vector<double>& v) {
    check(v.empty() ? sqlite3_bind_null(s_, ++at_)
                    : sqlite3_bind_blob(s_, ++at_, v.data(), static_cast<int>(v.size() * sizeof(double)), SQLITE_TRANSIENT));
    return *this;
  }
  // Whether there is a row.
  bool step() {
    const int code = sqlite3_step(s_);
    if (code != SQLITE_ROW && code != SQLITE_DONE) broken();
    return code == SQLITE_ROW;
  }
  std::string text(int i) const {
    const auto* t = reinterpret_cast<const char*>(sqlite3_column_text(s_, i));
    return t ? std::string(t, static_cast<size_t>(sqlite3_column_bytes(s_, i))) : "";
  }
  int64_t integer(int i) const { return sqlite3_column_int64(s_, i); }
  double real(int i) const { return sqlite3_column_double(s_, i); }
  std::optional<double> maybe(int i) const {
    return sqlite3_column_type(s_, i) == SQLITE_NULL ? std::nullopt : std::optional(sqlite3_column_double(s_, i));
  }
  std::vector<double> reals(int i) const {
    std::vector<double> v(static_cast<size_t>(sqlite3_column_bytes(s_, i)) / sizeof(double));
    if (!v.empty()) std::memcpy(v.data(), sqlite3_column_blob(s_, i), v.size() * sizeof(double));
    return v;
  }

 private:
  void check(int code) const {
    if (code != SQLITE_OK) broken();
  }
  [[noreturn]] void broken() const;

  sqlite3* db_;
  const std::string& path_;
  sqlite3_stmt* s_ = nullptr;
  int at_ = 0;
};

[[noreturn]] void broken_file(sqlite3* db, const std::string& path) {
  const int code = sqlite3_errcode(db) & 0xff;
  const char* what = sqlite3_errmsg(db);
  if (code == SQLITE_NOTADB) fail(Category::format, "{}: is no logbook; name another file, or one that is not there yet", path);
  if (code == SQLITE_CORRUPT)
    fail(Category::format, "{}: the logbook is damaged ({}); put a copy in its place, or move it away and a new one is begun", path, what);
  if (code == SQLITE_BUSY || code == SQLITE_LOCKED)
    fail(Category::resource, "{}: another process has been writing to the logbook for {} s; try again", path, kWaitMilliseconds / 1000);
  if (code == SQLITE_FULL) fail(Category::resource, "{}: the disk is full; nothing was kept", path);
  if (code == SQLITE_READONLY) fail(Category::resource, "{}: the logbook cannot be written: it is read-only", path);
  if (code == SQLITE_CANTOPEN) fail(Category::resource, "{}: cannot be opened: is its folder there, and may it be written?", path);
  fail(Category::resource, "{}: {}", path, what);
}

void Query::broken() const { broken_file(db_, path_); }

std::string now_text() {
  const std::time_t now = std::time(nullptr);
  std::tm utc{};
  gmtime_r(&now, &utc);
  char text[32];
  std::strftime(text, sizeof text, "%Y-%m-%dT%H:%M:%SZ", &utc);
  return text;
}

}  // namespace

struct Logbook::Impl {
  sqlite3* db = nullptr;
  std::string path;

  explicit Impl(const fs::path& p) : path(p.string()) {
    std::error_code ec;
    if (fs::is_directory(p, ec)) fail(Category::resource, "{}: is a folder; a logbook is a file", path);
    const int code = sqlite3_open_v2(path.c_str(), &db, SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE | SQLITE_OPEN_FULLMUTEX, nullptr);
    try {
      if (code != SQLITE_OK) broken_file(db, path);
      sqlite3_busy_timeout(db, kWaitMilliseconds);
      run("PRAGMA foreign_keys = ON");
      settle_version();
    } catch (...) {
      sqlite3_close(db);
      throw;
    }
  }
  ~Impl() { sqlite3_close(db); }
  Impl(const Impl&) = delete;
  Impl& operator=(const Impl&) = delete;

  void run(const std::string& sql) const {
    if (sqlite3_exec(db, sql.c_str(), nullptr, nullptr, nullptr) != SQLITE_OK) broken_file(db, path);
  }
  int64_t number(const std::string& sql) const {
    Query s(db, path, sql);
    return s.step() ? s.integer(0) : 0;
  }

  // "ok", or what is wrong. Nothing stays open behind it: who reads while it waits to write makes others wait for ever.
  std::string looked_over() const {
    Query s(db, path, "PRAGMA quick_check(1)");
    return s.step() ? s.text(0) : "";
  }

  // Everything inside, or nothing.
  template <typename F>
  void together(const char* begin, F f) const {
    run(begin);
    try {
      f();
      run("COMMIT");
    } catch (...) {
      sqlite3_exec(db, "ROLLBACK", nullptr, nullptr, nullptr);
      throw;
    }
  }

  void settle_version() const {
    // At one moment: another process may be making the file just now.
    int64_t application = 0, tables = 0, known = 0;
    together("BEGIN", [&] {
      tables = number("SELECT count(*) FROM sqlite_master");
      application = number("PRAGMA application_id");
      known = number("PRAGMA user_version");
    });
    if (application != kApplication && tables > 0)
      fail(Category::format, "{}: is a database of something else, no logbook; name another file", path);
    if (known > kCurrent)
      fail(Category::format, "{}: was written by a newer version of Mellow Lathe; this one knows version {} of logbooks", path, kCurrent);
    if (const std::string found = looked_over(); found != "ok")
      fail(Category::format, "{}: the logbook is damaged ({}); put a copy in its place, or move it away and a new one is begun", path,
           found);
    if (application == kApplication && known == kCurrent) return;
    together("BEGIN IMMEDIATE", [&] {  // looked at again: another process may have been faster
      const int64_t version = number("PRAGMA user_version");
      for (int64_t v = version; v < kCurrent; ++v) run(kVersions[v]);
      run(fmt::format("PRAGMA application_id = {}; PRAGMA user_version = {}", kApplication, kCurrent));
    });
  }

  int64_t problem(const std::string& machine, const std::string& isa, int threads, const std::string& text) const {
    Query add(db, path, "INSERT OR IGNORE INTO problems(machine, isa, threads, problem) VALUES(?, ?, ?, ?)");
    add.bind(machine).bind(isa).bind(int64_t{threads}).bind(text).step();
    Query find(db, path, "SELECT id FROM problems WHERE machine = ? AND isa = ? AND threads = ? AND problem = ?");
    find.bind(machine).bind(isa).bind(int64_t{threads}).bind(text).step();
    return find.integer(0);
  }

  std::map<std::string, Figure> figures(int64_t id, bool whole) const {
    std::map<std::string, Figure> out;
    Query s(db, path, fmt::format("SELECT name, value, low, high, unit{} FROM figures WHERE entry = ?", whole ? ", samples" : ""));
    s.bind(id);
    while (s.step()) {
      Figure& f = out[s.text(0)];
      f.value = s.real(1);
      f.low = s.maybe(2), f.high = s.maybe(3);
      f.unit = s.text(4);
      if (whole) f.samples = s.reals(5);
    }
    return out;
  }
};

Logbook::Logbook(const fs::path& path) : path_(path), impl_(std::make_unique<Impl>(path)) {}
Logbook::~Logbook() = default;
Logbook::Logbook(Logbook&&) noexcept = default;
Logbook& Logbook::operator=(Logbook&&) noexcept = default;

int64_t Logbook::keep(const LogEntry& e) {
  const std::string at = e.at.empty() ? now_text() : e.at;
  int64_t id = 0;
  impl_->together("BEGIN IMMEDIATE", [&] {
    Query s(impl_->db, impl_->path,
            "INSERT INTO entries(at, kind, machine, version, model, hash, options, details) VALUES(?, ?, ?, ?, ?, ?, ?, ?)");
    s.bind(at).bind(e.kind).bind(e.machine).bind(e.version).bind(e.model).bind(e.hash).bind(e.options).bind(e.details).step();
    id = sqlite3_last_insert_rowid(impl_->db);
    for (const auto& [name, f] : e.figures) {
      Query one(impl_->db, impl_->path, "INSERT INTO figures(entry, name, value, low, high, unit, samples) VALUES(?, ?, ?, ?, ?, ?, ?)");
      one.bind(id).bind(name).bind(f.value).bind(f.low).bind(f.high).bind(f.unit).bind(f.samples).step();
    }
  });
  return id;
}

void Logbook::keep_tuned(const std::string& machine, const Recipes& recipes, std::span<const RecipeTrial> trials) {
  const std::string at = now_text(), version = environment().version;
  impl_->together("BEGIN IMMEDIATE", [&] {
    for (const TunedRecipe& r : recipes.all()) {
      Query s(impl_->db, impl_->path,
              "INSERT OR REPLACE INTO recipes(problem, at, version, recipe, gain, low, high, seconds, trials)"
              " VALUES(?, ?, ?, ?, ?, ?, ?, ?, ?)");
      s.bind(impl_->problem(machine, r.isa, r.threads, r.problem)).bind(at).bind(version).bind(r.recipe);
      s.bind(r.gain).bind(r.low).bind(r.high).bind(r.seconds).bind(int64_t{r.trials}).step();
    }
    for (const RecipeTrial& t : trials) {
      Query s(impl_->db, impl_->path, "INSERT OR REPLACE INTO trials(problem, recipe, ratio, seconds) VALUES(?, ?, ?, ?)");
      s.bind(impl_->problem(machine, t.isa, t.threads, t.problem)).bind(t.recipe).bind(t.ratio).bind(t.seconds).step();
    }
  });
}

Recipes Logbook::recipes(const std::string& machine) const {
  Query s(impl_->db, impl_->path,
          "SELECT p.problem, p.isa, p.threads, r.recipe, r.gain, r.low, r.high, r.seconds, r.trials FROM recipes r JOIN problems p"
          " ON p.id = r.problem WHERE p.machine = ?");
  s.bind(machine);
  Recipes out;
  while (s.step()) {
    out.add({s.text(0), s.text(1), static_cast<int>(s.integer(2)), s.text(3), s.real(4), s.real(5), s.real(6), s.real(7),
             static_cast<int>(s.integer(8))});
  }
  return out;
}

std::vector<RecipeTrial> Logbook::trials(const std::string& machine) const {
  Query s(impl_->db, impl_->path,
          "SELECT p.problem, p.isa, p.threads, t.recipe, t.ratio, t.seconds FROM trials t JOIN problems p ON p.id = t.problem"
          " WHERE p.machine = ? ORDER BY t.problem, t.recipe");
  s.bind(machine);
  std::vector<RecipeTrial> out;
  while (s.step()) out.push_back({s.text(0), s.text(1), static_cast<int>(s.integer(2)), s.text(3), s.real(4), s.real(5)});
  return out;
}

int64_t Logbook::forget_tuned(const std::string& machine) {
  int64_t gone = 0;
  impl_->together("BEGIN IMMEDIATE", [&] {
    Query count(impl_->db, impl_->path, "SELECT count(*) FROM recipes r JOIN problems p ON p.id = r.problem WHERE p.machine = ?");
    gone = count.bind(machine).step() ? count.integer(0) : 0;
    Query drop(impl_->db, impl_->path, "DELETE FROM problems WHERE machine = ?");
    drop.bind(machine).step();
  });
  return gone;
}

std::vector<LogEntry> Logbook::list(const LogFilter& filter) const {
  std::string where;
  std::vector<std::string> texts;
  const auto equal = [&](const char* column, const std::string& text) {
    if (text.empty()) return;
    where += fmt::format("{}{} = ?", where.empty() ? " WHERE " : " AND ", column);
    texts.push_back(text);
  };
  equal("kind", filter.kind);
  equal("hash", filter.hash);
  equal("machine", filter.machine);
  equal("options", filter.options);
  if (!filter.model.empty()) {
    where += fmt::format("{}instr(model, ?) > 0", where.empty() ? " WHERE " : " AND ");
    texts.push_back(filter.model);
  }
  if (filter.before > 0) where += fmt::format("{}id < {}", where.empty() ? " WHERE " : " AND ", filter.before);
  Query s(impl_->db, impl_->path,
          "SELECT id, at, kind, machine, version, model, hash, options FROM entries" + where + " ORDER BY id DESC" +
              (filter.last > 0 ? fmt::format(" LIMIT {}", filter.last) : ""));
  for (const std::string& t : texts) s.bind(t);
  std::vector<LogEntry> out;
  while (s.step()) {
    LogEntry& e = out.emplace_back();
    e.id = s.integer(0);
    e.at = s.text(1), e.kind = s.text(2), e.machine = s.text(3), e.version = s.text(4);
    e.model = s.text(5), e.hash = s.text(6), e.options = s.text(7);
    e.figures = impl_->figures(e.id, false);
  }
  return out;
}

LogEntry Logbook::get(int64_t id) const {
  Query s(impl_->db, impl_->path, "SELECT at, kind, machine, version, model, hash, options, details FROM entries WHERE id = ?");
  s.bind(id);
  if (!s.step()) fail(Category::value, "{}: holds no entry {}; 'lathe logbook' lists what it holds", impl_->path, id);
  LogEntry e;
  e.id = id;
  e.at = s.text(0), e.kind = s.text(1), e.machine = s.text(2), e.version = s.text(3);
  e.model = s.text(4), e.hash = s.text(5), e.options = s.text(6), e.details = s.text(7);
  e.figures = impl_->figures(id, true);
  return e;
}

std::string machine_fingerprint() {
  const MachineInfo m = machine_info();
  return fmt::format("{}, {} core{}, {}{}", m.cpu, m.usable, m.usable == 1 ? "" : "s", m.isas.empty() ? "scalar" : m.isas.back(),
                     m.int8_dot ? " with int8 dot products" : "");
}

std::string hash_of_file(const fs::path& path) {
  const std::string bytes = read_file(path);
  return fmt::format("{:016x}", XXH3_64bits(bytes.data(), bytes.size()));
}

}  // namespace lathe
