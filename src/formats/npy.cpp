// numpy's array files: .npy (one array) and .npz (a zip of them).
#include <zip.h>

#include <unistd.h>

#include <charconv>
#include <cstring>

#include "base/fail.hpp"
#include "base/memory.hpp"
#include "base/files.hpp"
#include "formats/bools.hpp"
#include "lathe/formats.hpp"

namespace lathe {
namespace {

struct Code {
  DType dtype;
  const char* text;  // numpy's type string without the byte-order mark
};
constexpr Code kCodes[] = {
    {DType::f16, "f2"}, {DType::f32, "f4"},     {DType::f64, "f8"}, {DType::i8, "i1"},    {DType::i16, "i2"},
    {DType::i32, "i4"}, {DType::i64, "i8"},     {DType::u8, "u1"},  {DType::u16, "u2"},   {DType::u32, "u4"},
    {DType::u64, "u8"}, {DType::boolean, "b1"}, {DType::c64, "c8"}, {DType::c128, "c16"},
};

// The header is a Python dict literal with three keys; this finds one key's value text.
std::string header_value(const std::string& header, const std::string& key, const std::string& where) {
  size_t at = header.find("'" + key + "'");
  if (at == std::string::npos) fail(Category::format, "{}: the npy header has no '{}'", where, key);
  at = header.find(':', at);
  if (at == std::string::npos) fail(Category::format, "{}: the npy header is cut short", where);
  size_t from = header.find_first_not_of(' ', at + 1), to;
  if (from == std::string::npos) fail(Category::format, "{}: the npy header is cut short", where);
  if (header[from] == '(') to = header.find(')', from);
  else if (header[from] == '\'') to = header.find('\'', ++from);
  else to = header.find_first_of(",}", from);
  if (to == std::string::npos) fail(Category::format, "{}: the npy header is cut short", where);
  return header.substr(from, to - from);
}

Tensor parse_npy(const std::string& bytes, const std::string& where) {
  if (bytes.size() < 10 || bytes.compare(0, 6, "\x93NUMPY") != 0) fail(Category::format, "{}: not an npy array", where);
  const int major = static_cast<unsigned char>(bytes[6]);
  const auto* u = reinterpret_cast<const unsigned char*>(bytes.data());
  size_t start = 10, length = u[8] | u[9] << 8;
  if (major >= 2) {
    if (bytes.size() < 12) fail(Category::format, "{}: cut short", where);
    length = u[8] | u[9] << 8 | u[10] << 16 | static_cast<size_t>(u[11]) << 24;
    start = 12;
  }
  if (length > bytes.size() - start) fail(Category::format, "{}: cut short in its header", where);
  const std::string header = bytes.substr(start, length);
  std::string descr = header_value(header, "descr", where);
  if (descr.size() < 3) fail(Category::format, "{}: element type '{}' is not readable", where, descr);
  if (descr[0] == '>' && descr.substr(2) != "1")
    fail(Category::unsupported, "{}: big-endian arrays are not supported; save it in native order", where);
  DType dtype = DType::undefined;
  for (const Code& c : kCodes) {
    if (descr.substr(1) == c.text) dtype = c.dtype;
  }
  if (dtype == DType::undefined) fail(Category::unsupported, "{}: element type '{}' has no dtype here (numbers and bool do)", where, descr);
  const bool fortran = header_value(header, "fortran_order", where).starts_with("True");
  Shape shape;
  const std::string text = header_value(header, "shape", where);
  for (size_t i = 0; i < text.size();) {
    if (text[i] < '0' || text[i] > '9') {
      ++i;
      continue;
    }
    int64_t d = 0;
    const auto [end, ec] = std::from_chars(text.data() + i, text.data() + text.size(), d);
    if (ec != std::errc()) fail(Category::shape, "{}: shape ({}) does not fit", where, text);
    shape.push_back(d);
    i = end - text.data();
  }
  const auto count = checked_product(shape);
  const size_t element = bit_width(dtype) / 8, have = bytes.size() - start - length;
  if (!count || static_cast<uint64_t>(*count) > have / element || static_cast<size_t>(*count) * element > have) {
    fail(Category::format, "{}: cut short: shape {} of {} needs more than the {} bytes there", where, to_string(shape), to_string(dtype),
         have);
  }
  Tensor t(dtype, shape);
  const char* src = bytes.data() + start + length;
  auto* dst = static_cast<char*>(t.data());
  if (!fortran || shape.size() < 2) {
    if (*count > 0) std::memcpy(dst, src, *count * element);
    return sound_bools(std::move(t));
  }
  // Column order: the first index runs fastest in the file.
  std::vector<int64_t> index(shape.size(), 0);
  for (int64_t i = 0; i < *count; ++i) {
    int64_t at = 0;
    for (int d = static_cast<int>(shape.size()) - 1; d >= 0; --d) at = at * shape[d] + index[d];
    std::memcpy(dst + i * element, src + at * element, element);
    for (int d = static_cast<int>(shape.size()) - 1; d >= 0 && ++index[d] == shape[d]; --d) index[d] = 0;
  }
  return sound_bools(std::move(t));
}

std::string format_npy(const Tensor& t, const std::string& where) {
  const char* code = nullptr;
  for (const Code& c : kCodes) {
    if (c.dtype == t.dtype()) code = c.text;
  }
  if (!code) fail(Category::unsupported, "{}: npy has no element type for {}; write .pb instead", where, to_string(t.dtype()));
  std::string dims;
  for (int64_t d : t.shape()) dims += std::to_string(d) + ",";
  std::string header =
      fmt::format("{{'descr': '{}{}', 'fortran_order': False, 'shape': ({}), }}", bit_width(t.dtype()) > 8 ? '<' : '|', code, dims);
  header.append(round_up(10 + header.size() + 1, 64) - 10 - header.size() - 1, ' ');
  header += '\n';
  std::string out("\x93NUMPY\x01\x00", 8);
  out += static_cast<char>(header.size() & 0xFF);
  out += static_cast<char>(header.size() >> 8);
  out += header;
  out.append(static_cast<const char*>(t.data()), t.byte_size());
  return out;
}

}  // namespace

Tensor read_npy(const std::filesystem::path& path) { return parse_npy(read_file(path), path.string()); }

void write_npy(const std::filesystem::path& path, const Tensor& tensor) { write_file(path, format_npy(tensor, path.string())); }

std::vector<NamedTensor> read_npz(const std::filesystem::path& path) {
  if (!std::filesystem::exists(path)) fail(Category::format, "{}: no such file", path.string());
  int code = 0;
  std::unique_ptr<zip_t, void (*)(zip_t*)> archive(zip_open(path.c_str(), ZIP_RDONLY, &code), zip_discard);
  if (!archive) fail(Category::format, "{}: not an npz archive, or cut short", path.string());
  std::vector<NamedTensor> out;
  const zip_int64_t entries = zip_get_num_entries(archive.get(), 0);
  for (zip_int64_t i = 0; i < entries; ++i) {
    zip_stat_t st;
    if (zip_stat_index(archive.get(), i, 0, &st) != 0) fail(Category::format, "{}: entry {} cannot be read", path.string(), i);
    std::string name = st.name;
    const std::string where = path.string() + ": " + name;
    // Reads in pieces: the size a hostile archive states is not believed.
    std::unique_ptr<zip_file_t, int (*)(zip_file_t*)> file(zip_fopen_index(archive.get(), i, 0), zip_fclose);
    if (!file) fail(Category::format, "{}: cannot be unpacked: {}", where, zip_strerror(archive.get()));
    std::string bytes;
    std::vector<char> piece(1 << 20);
    zip_int64_t n;
    while ((n = zip_fread(file.get(), piece.data(), piece.size())) > 0) bytes.append(piece.data(), n);
    if (n < 0) fail(Category::format, "{}: cannot be unpacked: the archive is damaged", where);
    if (name.ends_with(".npy")) name.resize(name.size() - 4);
    out.push_back({name, parse_npy(bytes, where)});
  }
  return out;
}

void write_npz(const std::filesystem::path& path, const std::vector<NamedTensor>& tensors) {
  const auto target = target_of(path);
  auto temporary = target;
  temporary += fmt::format(".part{}", ::getpid());
  int code = 0;
  std::unique_ptr<zip_t, void (*)(zip_t*)> archive(zip_open(temporary.c_str(), ZIP_CREATE | ZIP_TRUNCATE, &code), zip_discard);
  if (!archive) fail(Category::resource, "{}: cannot be written", path.string());
  std::vector<std::string> bodies;  // libzip reads them when it closes
  for (const auto& t : tensors) bodies.push_back(format_npy(t.tensor, path.string() + ": " + t.name));
  for (size_t i = 0; i < tensors.size(); ++i) {
    zip_source_t* source = zip_source_buffer(archive.get(), bodies[i].data(), bodies[i].size(), 0);
    const auto index = zip_file_add(archive.get(), (tensors[i].name + ".npy").c_str(), source, ZIP_FL_ENC_UTF_8 | ZIP_FL_OVERWRITE);
    if (index < 0) {
      zip_source_free(source);
      fail(Category::resource, "{}: cannot add '{}': {}", path.string(), tensors[i].name, zip_strerror(archive.get()));
    }
    zip_set_file_compression(archive.get(), index, ZIP_CM_STORE, 0);
  }
  if (zip_close(archive.get()) != 0) {
    const std::string reason = zip_strerror(archive.get());
    fail(Category::resource, "{}: cannot be written: {}", path.string(), reason);
  }
  archive.release();
  std::error_code ec;
  std::filesystem::rename(temporary, target, ec);
  if (ec) {
    std::filesystem::remove(temporary);
    fail(Category::resource, "{}: cannot be written: {}", path.string(), ec.message());
  }
}

}  // namespace lathe
