// What a node's attributes and operands must be, stated as data (OpDef::attributes, OpDef::operands) and checked in one place: by
// inference whenever a size becomes known, and by plain evaluation. A lowering may rely on what is stated there and on nothing else.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "lathe/op.hpp"

namespace lathe {

// One attribute: its kinds (as in OpDef::attributes), and which values it may have.
struct AttributeRule {
  std::string name, kinds;
  bool required = false;
  std::optional<double> least;  // of a number, or of each in a list
  bool above = false;           // more than `least`, not just as much
  std::vector<std::string> one_of;
};

// A size: a product of numbers, names and attributes; or a run of dims.
struct DimRule {
  enum class Kind { any, product, run };
  struct Attribute {
    std::string name;
    std::optional<int64_t> otherwise;  // when the node does not have it; nothing: then nothing is known
  };
  Kind kind = Kind::any;
  int64_t number = 1;
  std::vector<std::string> names;
  std::vector<Attribute> attributes;
  std::string run;          // its name: runs of one name have as many dims
  bool least_one = false;   // a run of at least one
  bool same_sizes = false;  // a run that also has the sizes of the first of its name
  std::string text;
};

// The shapes an operand may have: one of several forms.
struct FormRule {
  std::vector<DimRule> dims;
  std::string broadcasts_to;  // instead: an operand whose shape this one broadcasts to, in one direction
  std::string text;
};

struct OperandRule {
  std::string name;
  bool (*dtype)(DType) = nullptr;  // null: any
  std::string dtypes, same_as;
  std::vector<FormRule> forms;  // none: any shape
  bool decides = false;         // its values decide sizes or axes
};

// A fact beside the shapes.
struct FactRule {
  enum class Kind { divides, axis };
  Kind kind = Kind::divides;
  std::string name;            // divides: a size; axis: the attribute
  DimRule::Attribute divisor;  // divides
  std::string operand;         // axis: within the rank of this one
  bool end_too = false;        // axis: one past the last is an axis too
};

struct Statement {
  std::vector<AttributeRule> attributes;
  std::vector<OperandRule> operands;
  std::vector<FactRule> facts;
  bool has_attributes = false;  // else nothing is known about them
};

namespace ops {

// The letter of an attribute's kind, as in OpDef::attributes, and what it is called.
char kind_of(const Attribute::Data& data);
std::string_view kind_name(char kind);

// Reads what a definition states. Throws Error (value) when it cannot be read.
std::shared_ptr<const Statement> read_statement(const OpDef& def);
// Throws Error naming the node, the operand or the attribute. What is not known yet passes.
void check_statement(const Statement& statement, const InferContext& context);
// For `infer`, where sizes hang on attributes that the notation does not read: input i must have these dims, as far as both are known.
void expect_dims(const InferContext& context, int i, const char* name, const Dims& wanted);
// Whether all inputs are there that the op needs: of a list of any number no one may be left out, but for what stands before it (the trips
// and the condition of Loop, the lengths of Scan's oldest form). Throws Error (value).
void check_present(const OpDef& def, const Node& node);
// Gives the definitions of the standard what they state about their operands.
void add_operands(std::vector<OpDef>& defs);

}  // namespace ops
}  // namespace lathe
