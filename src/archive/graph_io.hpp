// Graphs in a program archive's index; their tensors' bytes are blobs.
#pragma once

#include <memory>

#include "archive/container.hpp"
#include "lathe/graph.hpp"

namespace lathe::archive {

// Constants whose bytes are not there (they were packed) are written so. Model-local functions are left out: in a compiled program they are
// written out. Throws Error (unsupported) for what has no place in an archive.
void write_graph(const Graph& graph, IndexWriter& index, FileWriter& file);
// Everything is checked that memory safety hangs on: ids, sizes, depth. Tensors share the mapping.
Graph read_graph(IndexReader& index, const std::shared_ptr<const Mapping>& mapping);

void write_shape(const Shape& shape, IndexWriter& index);
Shape read_shape(IndexReader& index);
void write_dims(const std::optional<Dims>& dims, IndexWriter& index);
std::optional<Dims> read_dims(IndexReader& index);
void write_type(const Type& type, IndexWriter& index);
Type read_type(IndexReader& index, int depth = 0);
DType read_dtype(IndexReader& index);

}  // namespace lathe::archive
