// Attributes of the standard's ops, over all their versions: what check() compares a model with.
#include <map>

#include "ops/support.hpp"

namespace lathe::ops {
namespace {

// Kinds as in OpDef::attributes. An op of the standard that is not listed has no attributes.
constexpr const char* kAttributes[][2] = {
    {"AffineGrid", "align_corners:i"},
    {"ArgMax", "axis:i keepdims:i select_last_index:i"},
    {"ArgMin", "axis:i keepdims:i select_last_index:i"},
    {"Attention", "is_causal:i kv_num_heads:i q_num_heads:i qk_matmul_output_mode:i scale:f softcap:f softmax_precision:i"},
    {"AveragePool", "auto_pad:s ceil_mode:i count_include_pad:i dilations:I kernel_shape:I! pads:I strides:I"},
    {"BatchNormalization", "consumed_inputs:I epsilon:f is_test:i momentum:f spatial:i training_mode:i"},
    {"Bernoulli", "dtype:i seed:f"},
    {"BitShift", "direction:s!"},
    {"BlackmanWindow", "output_datatype:i periodic:i"},
    {"Cast", "saturate:i to:is! round_mode:s"},
    {"CastLike", "saturate:i round_mode:s"},
    {"Celu", "alpha:f"},
    {"CenterCropPad", "axes:I"},
    {"Clip", "consumed_inputs:I max:f min:f"},
    {"Col2Im", "dilations:I pads:I strides:I"},
    {"Compress", "axis:i"},
    {"Concat", "axis:i"},
    {"ConcatFromSequence", "axis:i! new_axis:i"},
    {"Constant", "sparse_value:p value:t value_float:f value_floats:F value_int:i value_ints:I value_string:s value_strings:S"},
    {"ConstantOfShape", "value:t"},
    {"Conv", "auto_pad:s dilations:I group:i kernel_shape:I pads:I strides:I"},
    {"ConvInteger", "auto_pad:s dilations:I group:i kernel_shape:I pads:I strides:I"},
    {"ConvTranspose", "auto_pad:s dilations:I group:i kernel_shape:I output_padding:I output_shape:I pads:I strides:I"},
    {"CumSum", "exclusive:i reverse:i"},
    {"DFT", "axis:i inverse:i onesided:i"},
    {"DeformConv", "dilations:I group:i kernel_shape:I offset_group:i pads:I strides:I"},
    {"DepthToSpace", "blocksize:i! mode:s"},
    {"DequantizeLinear", "axis:i block_size:i output_dtype:i"},
    {"Dropout", "consumed_inputs:I is_test:i ratio:f seed:i"},
    {"Einsum", "equation:s!"},
    {"Elu", "alpha:f consumed_inputs:I"},
    {"EyeLike", "dtype:i k:i"},
    {"Flatten", "axis:i"},
    {"GRU",
     "activation_alpha:F activation_beta:F activations:S clip:f direction:s hidden_size:i layout:i linear_before_reset:i "
     "output_sequence:i"},
    {"Gather", "axis:i"},
    {"GatherElements", "axis:i"},
    {"GatherND", "batch_dims:i"},
    {"Gelu", "approximate:s"},
    {"Gemm", "alpha:f beta:f broadcast:i transA:i transB:i"},
    {"GlobalLpPool", "p:if"},
    {"GridSample", "align_corners:i mode:s padding_mode:s"},
    {"GroupNormalization", "epsilon:f num_groups:i! stash_type:i"},
    {"HammingWindow", "output_datatype:i periodic:i"},
    {"HannWindow", "output_datatype:i periodic:i"},
    {"HardSigmoid", "alpha:f beta:f consumed_inputs:I"},
    {"Hardmax", "axis:i"},
    {"If", "else_branch:g! then_branch:g!"},
    {"ImageDecoder", "pixel_format:s"},
    {"InstanceNormalization", "consumed_inputs:I epsilon:f"},
    {"IsInf", "detect_negative:i detect_positive:i"},
    {"LRN", "alpha:f beta:f bias:f size:i!"},
    {"LSTM",
     "activation_alpha:F activation_beta:F activations:S clip:f direction:s hidden_size:i input_forget:i layout:i output_sequence:i"},
    {"LayerNormalization", "axis:i epsilon:f stash_type:i"},
    {"LeakyRelu", "alpha:f consumed_inputs:I"},
    {"LogSoftmax", "axis:i"},
    {"Loop", "body:g!"},
    {"LpNormalization", "axis:i p:i"},
    {"LpPool", "auto_pad:s ceil_mode:i dilations:I kernel_shape:I! p:if pads:I strides:I"},
    {"MaxPool", "auto_pad:s ceil_mode:i dilations:I kernel_shape:I! pads:I storage_order:i strides:I"},
    {"MaxRoiPool", "pooled_shape:I! spatial_scale:f"},
    {"MaxUnpool", "kernel_shape:I! pads:I strides:I"},
    {"MeanVarianceNormalization", "axes:I"},
    {"MelWeightMatrix", "output_datatype:i"},
    {"Mod", "fmod:i"},
    {"Multinomial", "dtype:i sample_size:i seed:f"},
    {"NegativeLogLikelihoodLoss", "ignore_index:i reduction:s"},
    {"NonMaxSuppression", "center_point_box:i"},
    {"OneHot", "axis:i"},
    {"Optional", "type:y"},
    {"Pad", "mode:s pads:I paddings:I value:f"},
    {"QLinearConv", "auto_pad:s dilations:I group:i kernel_shape:I pads:I strides:I"},
    {"QuantizeLinear", "axis:i block_size:i output_dtype:i precision:i saturate:i"},
    {"RMSNormalization", "axis:i epsilon:f stash_type:i"},
    {"RNN", "activation_alpha:F activation_beta:F activations:S clip:f direction:s hidden_size:i layout:i output_sequence:i"},
    {"RandomNormal", "dtype:i mean:f scale:f seed:f shape:I!"},
    {"RandomNormalLike", "dtype:i mean:f scale:f seed:f"},
    {"RandomUniform", "dtype:i high:f low:f seed:f shape:I!"},
    {"RandomUniformLike", "dtype:i high:f low:f seed:f"},
    {"ReduceL1", "axes:I keepdims:i noop_with_empty_axes:i"},
    {"ReduceL2", "axes:I keepdims:i noop_with_empty_axes:i"},
    {"ReduceLogSum", "axes:I keepdims:i noop_with_empty_axes:i"},
    {"ReduceLogSumExp", "axes:I keepdims:i noop_with_empty_axes:i"},
    {"ReduceMax", "axes:I keepdims:i noop_with_empty_axes:i"},
    {"ReduceMean", "axes:I keepdims:i noop_with_empty_axes:i"},
    {"ReduceMin", "axes:I keepdims:i noop_with_empty_axes:i"},
    {"ReduceProd", "axes:I keepdims:i noop_with_empty_axes:i"},
    {"ReduceSum", "axes:I keepdims:i noop_with_empty_axes:i"},
    {"ReduceSumSquare", "axes:I keepdims:i noop_with_empty_axes:i"},
    {"RegexFullMatch", "pattern:s"},
    {"Reshape", "allowzero:i consumed_inputs:I shape:I"},
    {"Resize",
     "antialias:i axes:I coordinate_transformation_mode:s cubic_coeff_a:f exclude_outside:i extrapolation_value:f "
     "keep_aspect_ratio_policy:s mode:s nearest_mode:s"},
    {"ReverseSequence", "batch_axis:i time_axis:i"},
    {"RoiAlign", "coordinate_transformation_mode:s mode:s output_height:i output_width:i sampling_ratio:i spatial_scale:f"},
    {"RotaryEmbedding", "interleaved:i num_heads:i rotary_embedding_dim:i"},
    {"STFT", "onesided:i"},
    {"Scan",
     "body:g! directions:I num_scan_inputs:i! scan_input_axes:I scan_input_directions:I scan_output_axes:I scan_output_directions:I"},
    {"Scatter", "axis:i"},
    {"ScatterElements", "axis:i reduction:s"},
    {"ScatterND", "reduction:s"},
    {"Selu", "alpha:f consumed_inputs:I gamma:f"},
    {"SequenceEmpty", "dtype:i"},
    {"SequenceMap", "body:g!"},
    {"Shape", "end:i start:i"},
    {"Shrink", "bias:f lambd:f"},
    {"Slice", "axes:I ends:I starts:I"},
    {"Softmax", "axis:i"},
    {"SoftmaxCrossEntropyLoss", "ignore_index:i reduction:s"},
    {"SpaceToDepth", "blocksize:i!"},
    {"Split", "axis:i num_outputs:i split:I"},
    {"SplitToSequence", "axis:i keepdims:i"},
    {"Squeeze", "axes:I"},
    {"StringNormalizer", "case_change_action:s is_case_sensitive:i locale:s stopwords:S"},
    {"StringSplit", "delimiter:s maxsplit:i"},
    {"Swish", "alpha:f"},
    {"TensorScatter", "axis:i mode:s"},
    {"TfIdfVectorizer",
     "max_gram_length:i! max_skip_count:i! min_gram_length:i! mode:s! ngram_counts:I! ngram_indexes:I! pool_int64s:I pool_strings:S "
     "weights:F"},
    {"ThresholdedRelu", "alpha:f"},
    {"TopK", "axis:i k:i largest:i sorted:i"},
    {"Transpose", "perm:I"},
    {"Trilu", "upper:i"},
    {"Unique", "axis:i sorted:i"},
    {"Unsqueeze", "axes:I"},
    {"Upsample", "height_scale:f mode:s scales:F width_scale:f"},
    // Legacy forms of elementwise ops.
    {"Add", "axis:i broadcast:i consumed_inputs:I"},
    {"And", "axis:i broadcast:i"},
    {"Div", "axis:i broadcast:i consumed_inputs:I"},
    {"Equal", "axis:i broadcast:i"},
    {"Greater", "axis:i broadcast:i"},
    {"Less", "axis:i broadcast:i"},
    {"Mul", "axis:i broadcast:i consumed_inputs:I"},
    {"Or", "axis:i broadcast:i"},
    {"Pow", "axis:i broadcast:i"},
    {"PRelu", "consumed_inputs:I"},
    {"Sub", "axis:i broadcast:i consumed_inputs:I"},
    {"Xor", "axis:i broadcast:i"},
    // The companion domain.
    {"Binarizer", "threshold:f"},
    {"CastMap", "cast_to:s map_form:s max_map:i"},
    {"CategoryMapper", "cats_int64s:I cats_strings:S default_int64:i default_string:s"},
    {"DictVectorizer", "int64_vocabulary:I string_vocabulary:S"},
    {"FeatureVectorizer", "inputdimensions:I"},
    {"Imputer", "imputed_value_floats:F imputed_value_int64s:I replaced_value_float:f replaced_value_int64:i"},
    {"LabelEncoder",
     "classes_strings:S default_float:f default_int64:i default_string:s default_tensor:t keys_floats:F keys_int64s:I keys_strings:S "
     "keys_tensor:t values_floats:F values_int64s:I values_strings:S values_tensor:t"},
    {"LinearClassifier", "classlabels_ints:I classlabels_strings:S coefficients:F! intercepts:F multi_class:i post_transform:s"},
    {"LinearRegressor", "coefficients:F intercepts:F post_transform:s targets:i"},
    {"Normalizer", "norm:s"},
    {"OneHotEncoder", "cats_int64s:I cats_strings:S zeros:i"},
    {"SVMClassifier",
     "classlabels_ints:I classlabels_strings:S coefficients:F kernel_params:F kernel_type:s post_transform:s prob_a:F prob_b:F rho:F "
     "support_vectors:F vectors_per_class:I"},
    {"SVMRegressor", "coefficients:F kernel_params:F kernel_type:s n_supports:i one_class:i post_transform:s rho:F support_vectors:F"},
    {"Scaler", "offset:F scale:F"},
    {"TreeEnsemble",
     "aggregate_function:i leaf_targetids:I! leaf_weights:t! membership_values:t n_targets:i nodes_falseleafs:I! nodes_falsenodeids:I! "
     "nodes_featureids:I! nodes_hitrates:t nodes_missing_value_tracks_true:I nodes_modes:t! nodes_splits:t! nodes_trueleafs:I! "
     "nodes_truenodeids:I! post_transform:i tree_roots:I!"},
    {"TreeEnsembleClassifier",
     "base_values:F base_values_as_tensor:t class_ids:I class_nodeids:I class_treeids:I class_weights:F class_weights_as_tensor:t "
     "classlabels_int64s:I classlabels_strings:S nodes_falsenodeids:I nodes_featureids:I nodes_hitrates:F nodes_hitrates_as_tensor:t "
     "nodes_missing_value_tracks_true:I nodes_modes:S nodes_nodeids:I nodes_treeids:I nodes_truenodeids:I nodes_values:F "
     "nodes_values_as_tensor:t post_transform:s"},
    {"TreeEnsembleRegressor",
     "aggregate_function:s base_values:F base_values_as_tensor:t n_targets:i nodes_falsenodeids:I nodes_featureids:I nodes_hitrates:F "
     "nodes_hitrates_as_tensor:t nodes_missing_value_tracks_true:I nodes_modes:S nodes_nodeids:I nodes_treeids:I nodes_truenodeids:I "
     "nodes_values:F nodes_values_as_tensor:t post_transform:s target_ids:I target_nodeids:I target_treeids:I target_weights:F "
     "target_weights_as_tensor:t"},
    {"ZipMap", "classlabels_int64s:I classlabels_strings:S"},
};

}  // namespace

void add_attributes(std::vector<OpDef>& defs) {
  std::map<std::string, std::string, std::less<>> table;
  for (const auto& [name, spec] : kAttributes) table[name] = spec;
  for (OpDef& d : defs) {
    const auto it = table.find(d.name);
    // `consumed_inputs` of the first versions may stand on any elementwise op and means nothing.
    d.attributes = it != table.end() ? it->second : d.since < 6 ? "consumed_inputs:I" : "";
  }
}

}  // namespace lathe::ops
