// Answers as bytes, from rank to rank and in checkpoints: exactly what they are, but for the item's name, which everybody knows.
#pragma once

#include <string>
#include <string_view>

#include "lathe/judge_pictures.hpp"

namespace lathe::judging {

std::string bytes_of(const ClassAnswer& a);
std::string bytes_of(const ValueAnswer& a);
std::string bytes_of(const MaskAnswer& a);
std::string bytes_of(const PictureAnswer& a);
std::string bytes_of(const BoxAnswer& a);  // what was found alone: what was expected everybody knows
std::string bytes_of(const TokenAnswer& a);
// Into an answer whose item is known already. Throw Error (format).
void read_answer(std::string_view bytes, ClassAnswer& a);
void read_answer(std::string_view bytes, ValueAnswer& a);
void read_answer(std::string_view bytes, MaskAnswer& a);
void read_answer(std::string_view bytes, PictureAnswer& a);
void read_answer(std::string_view bytes, BoxAnswer& a);
void read_answer(std::string_view bytes, TokenAnswer& a);

}  // namespace lathe::judging
