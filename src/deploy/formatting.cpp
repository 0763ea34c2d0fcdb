// The text formatting that the library of deployment uses, in itself: Debian has no static library of it, and a program that is linked
// statically should need no other. These are the templates that the formatting library's own object file has.
#undef FMT_SHARED
// Nor does it ask for locales, which nobody here formats by: they would bring a megabyte.
#define FMT_STATIC_THOUSANDS_SEPARATOR ','
#include <fmt/format-inl.h>

FMT_BEGIN_NAMESPACE
namespace detail {

template auto dragonbox::to_decimal(float) noexcept -> dragonbox::decimal_fp<float>;
template auto dragonbox::to_decimal(double) noexcept -> dragonbox::decimal_fp<double>;
template auto thousands_sep_impl(locale_ref) -> thousands_sep_result<char>;
template auto decimal_point_impl(locale_ref) -> char;
template void buffer<char>::append(const char*, const char*);
template void vformat_to(buffer<char>&, string_view, basic_format_args<FMT_BUFFER_CONTEXT(char)>, locale_ref);

}  // namespace detail
FMT_END_NAMESPACE
