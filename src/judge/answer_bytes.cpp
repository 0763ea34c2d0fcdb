#include "judge/answer_bytes.hpp"

#include "archive/container.hpp"

namespace lathe::judging {
namespace {

using archive::IndexReader;
using archive::IndexWriter;

void put(IndexWriter& w, int64_t v) { w.i64(v); }
void put(IndexWriter& w, double v) { w.f64(v); }
void get(IndexReader& r, int64_t& v) { v = r.i64(); }
void get(IndexReader& r, double& v) { v = r.f64(); }
template <typename T>
void put(IndexWriter& w, const std::vector<T>& list) {
  w.u64(list.size());
  for (const T& v : list) put(w, v);
}
template <typename T>
void get(IndexReader& r, std::vector<T>& list) {
  list.resize(r.count(8));
  for (T& v : list) get(r, v);
}

// What of an answer is passed on, in order: once for both ways.
template <typename F>
void each(F&& f, auto& a, const ClassAnswer*) {
  f(a.expected), f(a.best), f(a.scores);
}
template <typename F>
void each(F&& f, auto& a, const ValueAnswer*) {
  f(a.count), f(a.absolute), f(a.squared), f(a.sum), f(a.sum_squared), f(a.largest);
}
template <typename F>
void each(F&& f, auto& a, const MaskAnswer*) {
  f(a.both), f(a.said), f(a.is), f(a.right), f(a.pixels);
}
template <typename F>
void each(F&& f, auto& a, const PictureAnswer*) {
  f(a.psnr), f(a.ssim);
}
template <typename F>
void each(F&& f, auto& a, const TokenAnswer*) {
  f(a.count), f(a.right), f(a.loss);
}

template <typename A>
constexpr bool kMayBeOdd = requires(A a) {
  a.odd;
};

template <typename A>
std::string written(const A& a) {
  IndexWriter w;
  if constexpr (kMayBeOdd<A>) w.u8(a.odd ? 1 : 0);
  each([&](const auto& v) { put(w, v); }, a, &a);
  return w.bytes();
}
IndexReader reader(std::string_view bytes) { return {std::as_bytes(std::span(bytes)), "an answer from another rank or a checkpoint"}; }
template <typename A>
void read(std::string_view bytes, A& a) {
  IndexReader r = reader(bytes);
  if constexpr (kMayBeOdd<A>) a.odd = r.u8() != 0;
  each([&](auto& v) { get(r, v); }, a, &a);
  if (!r.at_end()) r.refuse("it is longer than what it says");
}

}  // namespace

std::string bytes_of(const ClassAnswer& a) { return written(a); }
std::string bytes_of(const ValueAnswer& a) { return written(a); }
std::string bytes_of(const MaskAnswer& a) { return written(a); }
std::string bytes_of(const PictureAnswer& a) { return written(a); }
std::string bytes_of(const TokenAnswer& a) { return written(a); }
std::string bytes_of(const BoxAnswer& a) {
  IndexWriter w;
  w.u64(a.found.size());
  for (const Box& b : a.found) {
    w.i64(b.label);
    for (const double v : {b.x, b.y, b.width, b.height, b.score}) w.f64(v);
  }
  return w.bytes();
}

void read_answer(std::string_view bytes, ClassAnswer& a) { read(bytes, a); }
void read_answer(std::string_view bytes, ValueAnswer& a) { read(bytes, a); }
void read_answer(std::string_view bytes, MaskAnswer& a) { read(bytes, a); }
void read_answer(std::string_view bytes, PictureAnswer& a) { read(bytes, a); }
void read_answer(std::string_view bytes, TokenAnswer& a) { read(bytes, a); }
void read_answer(std::string_view bytes, BoxAnswer& a) {
  IndexReader r = reader(bytes);
  a.found.resize(r.count(48));
  for (Box& b : a.found) {
    b.label = r.i64();
    for (double* v : {&b.x, &b.y, &b.width, &b.height, &b.score}) *v = r.f64();
  }
  if (!r.at_end()) r.refuse("it is longer than what it says");
}

}  // namespace lathe::judging
