// Files: models (ONNX), tensors (the standard's .pb, .npy, .npz), pictures (PNG, JPEG).
#pragma once

#include <filesystem>
#include <string>
#include <string_view>
#include <vector>

#include "lathe/graph.hpp"

namespace lathe {

struct LoadOptions {
  // External data outside the model's folder is refused unless this is set.
  bool allow_data_outside_folder = false;
  // Keep declared types only; skip checking and inference (for looking at faulty models).
  bool unchecked = false;
};

// Reads an ONNX file, checks it and infers types and shapes. Throws Error: format (not ONNX, truncated), unsupported
// (all unknown ops, with counts), shape, type, value; every fault found in one go.
Graph load(const std::filesystem::path& path, const LoadOptions& options = {});

// The same from memory; `name` stands for the file in messages. External data has no folder to lie in and is refused.
Graph load_bytes(std::string_view bytes, const std::string& name = "model", const LoadOptions& options = {});

// Everything that is wrong with a model file, or worth knowing about it, in one pass: what the reader met and what examine() finds.
// Nothing is thrown; a file that cannot be read at all is one fault.
std::vector<Fault> examine_file(const std::filesystem::path& path, const LoadOptions& options = {});

struct SaveOptions {
  // Initializers of at least this many bytes go to one file beside the model (its name + ".data"). 0: none, unless the
  // model would pass the 2 GiB that a protobuf file can hold.
  size_t external_from_bytes = 0;
};

// Writes through a temporary file and a rename. Throws Error (resource) when the folder cannot be written.
void save(const Graph& graph, const std::filesystem::path& path, const SaveOptions& options = {});

struct NamedTensor {
  std::string name;
  Tensor tensor;
};

// One tensor in the standard's protobuf form; with a type that is not a tensor: a sequence, optional or map of them.
NamedTensor read_tensor_pb(const std::filesystem::path& path, const Type& type = {});
void write_tensor_pb(const std::filesystem::path& path, const NamedTensor& tensor);

Tensor read_npy(const std::filesystem::path& path);
void write_npy(const std::filesystem::path& path, const Tensor& tensor);
std::vector<NamedTensor> read_npz(const std::filesystem::path& path);
void write_npz(const std::filesystem::path& path, const std::vector<NamedTensor>& tensors);

// Pixels as u8, shape height x width x 3, RGB, upright (EXIF orientation is undone). Transparent pixels are laid over black, grey is
// repeated, 16 bits become 8, CMYK becomes RGB. The format is told from the bytes. Throws Error: format, resource (more than 268 million
// pixels).
Tensor read_picture(const std::filesystem::path& path);

// Height and width of a picture file, as read_picture gives it; of a PNG from its header alone.
std::pair<int64_t, int64_t> picture_size(const std::filesystem::path& path);
// PNG, or JPEG (quality 92) by the path's ending, of u8 [height, width, 3]. Throws Error: value (another ending), shape, resource.
void write_picture(const std::filesystem::path& path, const Tensor& pixels);
std::string encode_png(const Tensor& pixels);

// How a picture of other proportions becomes height x width.
enum class Fit : uint8_t {
  stretch,  // each side by itself
  pad,      // as large as fits, in the middle; what is left over is 0 after mean and scale
  crop,     // the middle of it, as large as fills
  keep,     // at its own size, in the middle: cut where it is larger, 0 after mean and scale where it is smaller
};

struct PictureOptions {
  int64_t height = 0, width = 0;  // 0: keep the picture's size
  Fit fit = Fit::stretch;
  std::vector<float> mean{0};   // one value, or one a channel, in pixel units
  std::vector<float> scale{1};  // (pixel - mean) * scale
  bool bgr = false;
  // Where the picture shrinks, each pixel is the mean of what it covers (a triangle as wide as it), rounded to a byte, first.
  bool antialias = false;
  int64_t channels = 3;  // 3, or 1 for luma
  bool channels_last = false;
  DType dtype = DType::f32;  // a float, or u8: rounded to the nearest byte
};

// 1 x channels x height x width, or 1 x height x width x channels: resized (bilinear, half-pixel centres), reordered and normalised.
Tensor picture_to_tensor(const Tensor& pixels, const PictureOptions& options);
// The shape that it gives. Throws Error (shape).
Shape picture_tensor_shape(const Tensor& pixels, const PictureOptions& options);
// The same into a tensor that is there already. Throws Error (shape) when it has not that type and shape.
void picture_into(const Tensor& pixels, const PictureOptions& options, Tensor& out);

}  // namespace lathe
