// Attributes of the standard's ops, over all their versions: what check() compares a model with.
#include <map>

#include "ops/support.hpp"

namespace lathe::ops {
namespace {

// Kinds as in OpDef::attributes. An op of the standard that is not listed has no attributes.
constexpr const char* kAttributes[][2] = {
    {"AffineGrid", "align_corners:i(0,1)"},
    {"ArgMax", "axis:i keepdims:i(0,1) select_last_index:i(0,1)"},
    {"ArgMin", "axis:i keepdims:i(0,1) select_last_index:i(0,1)"},
    {"Attention",
     "is_causal:i(0,1) kv_num_heads:i>0 q_num_heads:i>0 qk_matmul_output_mode:i(0,1,2,3) scale:f softcap:f softmax_precision:i"},
    {"AveragePool",
     "auto_pad:s(NOTSET,SAME_UPPER,SAME_LOWER,VALID,) ceil_mode:i(0,1) count_include_pad:i(0,1) dilations:I>0 kernel_shape:I!>0 pads:I>=0 "
     "strides:I>0"},
    {"BatchNormalization", "consumed_inputs:I epsilon:f is_test:i(0,1) momentum:f spatial:i training_mode:i(0,1)"},
    {"Bernoulli", "dtype:i seed:f"},
    {"BitShift", "direction:s!(LEFT,RIGHT)"},
    {"BlackmanWindow", "output_datatype:i periodic:i(0,1)"},
    {"Cast", "saturate:i(0,1) to:is! round_mode:s(up,down,nearest)"},
    {"CastLike", "saturate:i(0,1) round_mode:s(up,down,nearest)"},
    {"Celu", "alpha:f"},
    {"CenterCropPad", "axes:I"},
    {"Clip", "consumed_inputs:I max:f min:f"},
    {"Col2Im", "dilations:I>0 pads:I>=0 strides:I>0"},
    {"Compress", "axis:i"},
    {"Concat", "axis:i"},
    {"ConcatFromSequence", "axis:i! new_axis:i"},
    {"Constant", "sparse_value:p value:t value_float:f value_floats:F value_int:i value_ints:I value_string:s value_strings:S"},
    {"ConstantOfShape", "value:t"},
    {"Conv", "auto_pad:s(NOTSET,SAME_UPPER,SAME_LOWER,VALID,) dilations:I>0 group:i>0 kernel_shape:I>0 pads:I>=0 strides:I>0"},
    {"ConvInteger", "auto_pad:s(NOTSET,SAME_UPPER,SAME_LOWER,VALID,) dilations:I>0 group:i>0 kernel_shape:I>0 pads:I>=0 strides:I>0"},
    {"ConvTranspose",
     "auto_pad:s(NOTSET,SAME_UPPER,SAME_LOWER,VALID,) dilations:I>0 group:i>0 kernel_shape:I>0 output_padding:I>=0 output_shape:I "
     "pads:I>=0 strides:I>0"},
    {"CumSum", "exclusive:i(0,1) reverse:i(0,1)"},
    {"DFT", "axis:i inverse:i(0,1) onesided:i(0,1)"},
    {"DeformConv", "dilations:I>0 group:i>0 kernel_shape:I>0 offset_group:i>0 pads:I>=0 strides:I>0"},
    {"DepthToSpace", "blocksize:i!>0 mode:s(DCR,CRD)"},
    {"DequantizeLinear", "axis:i block_size:i>=0 output_dtype:i"},
    {"Dropout", "consumed_inputs:I is_test:i(0,1) ratio:f seed:i"},
    {"Einsum", "equation:s!"},
    {"Elu", "alpha:f consumed_inputs:I"},
    {"EyeLike", "dtype:i k:i"},
    {"Flatten", "axis:i"},
    {"GRU",
     "activation_alpha:F activation_beta:F activations:S clip:f direction:s(forward,reverse,bidirectional) hidden_size:i>0 layout:i(0,1) "
     "linear_before_reset:i(0,1) "
     "output_sequence:i"},
    {"Gather", "axis:i"},
    {"GatherElements", "axis:i"},
    {"GatherND", "batch_dims:i>=0"},
    {"Gelu", "approximate:s(none,tanh)"},
    {"Gemm", "alpha:f beta:f broadcast:i(0,1) transA:i(0,1) transB:i(0,1)"},
    {"GlobalLpPool", "p:if>0"},
    {"GridSample", "align_corners:i(0,1) mode:s(linear,bilinear,nearest,cubic,bicubic) padding_mode:s(zeros,border,reflection)"},
    {"GroupNormalization", "epsilon:f num_groups:i!>0 stash_type:i"},
    {"HammingWindow", "output_datatype:i periodic:i(0,1)"},
    {"HannWindow", "output_datatype:i periodic:i(0,1)"},
    {"HardSigmoid", "alpha:f beta:f consumed_inputs:I"},
    {"Hardmax", "axis:i"},
    {"If", "else_branch:g! then_branch:g!"},
    {"ImageDecoder", "pixel_format:s(RGB,BGR,Grayscale)"},
    {"InstanceNormalization", "consumed_inputs:I epsilon:f"},
    {"IsInf", "detect_negative:i(0,1) detect_positive:i(0,1)"},
    {"LRN", "alpha:f beta:f bias:f size:i!>0"},
    {"LSTM",
     "activation_alpha:F activation_beta:F activations:S clip:f direction:s(forward,reverse,bidirectional) hidden_size:i>0 "
     "input_forget:i(0,1) layout:i(0,1) output_sequence:i"},
    {"LayerNormalization", "axis:i epsilon:f stash_type:i"},
    {"LeakyRelu", "alpha:f consumed_inputs:I"},
    {"LogSoftmax", "axis:i"},
    {"Loop", "body:g!"},
    {"LpNormalization", "axis:i p:i(1,2)"},
    {"LpPool",
     "auto_pad:s(NOTSET,SAME_UPPER,SAME_LOWER,VALID,) ceil_mode:i(0,1) dilations:I>0 kernel_shape:I!>0 p:if>0 pads:I>=0 strides:I>0"},
    {"MaxPool",
     "auto_pad:s(NOTSET,SAME_UPPER,SAME_LOWER,VALID,) ceil_mode:i(0,1) dilations:I>0 kernel_shape:I!>0 pads:I>=0 storage_order:i(0,1) "
     "strides:I>0"},
    {"MaxRoiPool", "pooled_shape:I!>0 spatial_scale:f"},
    {"MaxUnpool", "kernel_shape:I!>0 pads:I>=0 strides:I>0"},
    {"MeanVarianceNormalization", "axes:I"},
    {"MelWeightMatrix", "output_datatype:i"},
    {"Mod", "fmod:i(0,1)"},
    {"Multinomial", "dtype:i sample_size:i>0 seed:f"},
    {"NegativeLogLikelihoodLoss", "ignore_index:i reduction:s(none,sum,mean)"},
    {"NonMaxSuppression", "center_point_box:i(0,1)"},
    {"OneHot", "axis:i"},
    {"Optional", "type:y"},
    {"Pad", "mode:s(constant,reflect,edge,wrap) pads:I paddings:I value:f"},
    {"QLinearConv", "auto_pad:s(NOTSET,SAME_UPPER,SAME_LOWER,VALID,) dilations:I>0 group:i>0 kernel_shape:I>0 pads:I>=0 strides:I>0"},
    {"QuantizeLinear", "axis:i block_size:i>=0 output_dtype:i precision:i saturate:i(0,1)"},
    {"RMSNormalization", "axis:i epsilon:f stash_type:i"},
    {"RNN",
     "activation_alpha:F activation_beta:F activations:S clip:f direction:s(forward,reverse,bidirectional) hidden_size:i>0 layout:i(0,1) "
     "output_sequence:i"},
    {"RandomNormal", "dtype:i mean:f scale:f seed:f shape:I!"},
    {"RandomNormalLike", "dtype:i mean:f scale:f seed:f"},
    {"RandomUniform", "dtype:i high:f low:f seed:f shape:I!"},
    {"RandomUniformLike", "dtype:i high:f low:f seed:f"},
    {"ReduceL1", "axes:I keepdims:i(0,1) noop_with_empty_axes:i(0,1)"},
    {"ReduceL2", "axes:I keepdims:i(0,1) noop_with_empty_axes:i(0,1)"},
    {"ReduceLogSum", "axes:I keepdims:i(0,1) noop_with_empty_axes:i(0,1)"},
    {"ReduceLogSumExp", "axes:I keepdims:i(0,1) noop_with_empty_axes:i(0,1)"},
    {"ReduceMax", "axes:I keepdims:i(0,1) noop_with_empty_axes:i(0,1)"},
    {"ReduceMean", "axes:I keepdims:i(0,1) noop_with_empty_axes:i(0,1)"},
    {"ReduceMin", "axes:I keepdims:i(0,1) noop_with_empty_axes:i(0,1)"},
    {"ReduceProd", "axes:I keepdims:i(0,1) noop_with_empty_axes:i(0,1)"},
    {"ReduceSum", "axes:I keepdims:i(0,1) noop_with_empty_axes:i(0,1)"},
    {"ReduceSumSquare", "axes:I keepdims:i(0,1) noop_with_empty_axes:i(0,1)"},
    {"RegexFullMatch", "pattern:s"},
    {"Reshape", "allowzero:i(0,1) consumed_inputs:I shape:I"},
    {"Resize",
     "antialias:i(0,1) axes:I "
     "coordinate_transformation_mode:s(half_pixel,half_pixel_symmetric,pytorch_half_pixel,align_corners,asymmetric,tf_half_pixel_for_nn,tf_"
     "crop_and_resize) cubic_coeff_a:f exclude_outside:i(0,1) extrapolation_value:f "
     "keep_aspect_ratio_policy:s(stretch,not_larger,not_smaller) mode:s(nearest,linear,cubic) "
     "nearest_mode:s(round_prefer_floor,round_prefer_ceil,floor,ceil)"},
    {"ReverseSequence", "batch_axis:i time_axis:i"},
    {"RoiAlign",
     "coordinate_transformation_mode:s(half_pixel,output_half_pixel) mode:s(avg,max) output_height:i>0 output_width:i>0 "
     "sampling_ratio:i>=0 spatial_scale:f"},
    {"RotaryEmbedding", "interleaved:i(0,1) num_heads:i>=0 rotary_embedding_dim:i>=0"},
    {"STFT", "onesided:i(0,1)"},
    {"Scan",
     "body:g! directions:I num_scan_inputs:i!>0 scan_input_axes:I scan_input_directions:I scan_output_axes:I scan_output_directions:I"},
    {"Scatter", "axis:i"},
    {"ScatterElements", "axis:i reduction:s(none,add,mul,max,min)"},
    {"ScatterND", "reduction:s(none,add,mul,max,min)"},
    {"Selu", "alpha:f consumed_inputs:I gamma:f"},
    {"SequenceEmpty", "dtype:i"},
    {"SequenceMap", "body:g!"},
    {"Shape", "end:i start:i"},
    {"Shrink", "bias:f lambd:f"},
    {"Slice", "axes:I ends:I starts:I"},
    {"Softmax", "axis:i"},
    {"SoftmaxCrossEntropyLoss", "ignore_index:i reduction:s(none,sum,mean)"},
    {"SpaceToDepth", "blocksize:i!>0"},
    {"Split", "axis:i num_outputs:i>0 split:I"},
    {"SplitToSequence", "axis:i keepdims:i(0,1)"},
    {"Squeeze", "axes:I"},
    {"StringNormalizer", "case_change_action:s(LOWER,UPPER,NONE) is_case_sensitive:i(0,1) locale:s stopwords:S"},
    {"StringSplit", "delimiter:s maxsplit:i"},
    {"Swish", "alpha:f"},
    {"TensorScatter", "axis:i mode:s(linear,circular)"},
    {"TfIdfVectorizer",
     "max_gram_length:i!>0 max_skip_count:i!>=0 min_gram_length:i!>0 mode:s!(TF,IDF,TFIDF) ngram_counts:I! ngram_indexes:I! pool_int64s:I "
     "pool_strings:S "
     "weights:F"},
    {"ThresholdedRelu", "alpha:f"},
    {"TopK", "axis:i k:i>=0 largest:i(0,1) sorted:i(0,1)"},
    {"Transpose", "perm:I"},
    {"Trilu", "upper:i(0,1)"},
    {"Unique", "axis:i sorted:i(0,1)"},
    {"Unsqueeze", "axes:I"},
    {"Upsample", "height_scale:f mode:s(nearest,linear,bilinear) scales:F width_scale:f"},
    // Legacy forms of elementwise ops.
    {"Add", "axis:i broadcast:i(0,1) consumed_inputs:I"},
    {"And", "axis:i broadcast:i(0,1)"},
    {"Div", "axis:i broadcast:i(0,1) consumed_inputs:I"},
    {"Equal", "axis:i broadcast:i(0,1)"},
    {"Greater", "axis:i broadcast:i(0,1)"},
    {"Less", "axis:i broadcast:i(0,1)"},
    {"Mul", "axis:i broadcast:i(0,1) consumed_inputs:I"},
    {"Or", "axis:i broadcast:i(0,1)"},
    {"Pow", "axis:i broadcast:i(0,1)"},
    {"PRelu", "consumed_inputs:I"},
    {"Sub", "axis:i broadcast:i(0,1) consumed_inputs:I"},
    {"Xor", "axis:i broadcast:i(0,1)"},
    // The companion domain.
    {"Binarizer", "threshold:f"},
    {"CastMap", "cast_to:s(TO_FLOAT,TO_STRING,TO_INT64) map_form:s(DENSE,SPARSE) max_map:i"},
    {"CategoryMapper", "cats_int64s:I cats_strings:S default_int64:i default_string:s"},
    {"DictVectorizer", "int64_vocabulary:I string_vocabulary:S"},
    {"FeatureVectorizer", "inputdimensions:I"},
    {"Imputer", "imputed_value_floats:F imputed_value_int64s:I replaced_value_float:f replaced_value_int64:i"},
    {"LabelEncoder",
     "classes_strings:S default_float:f default_int64:i default_string:s default_tensor:t keys_floats:F keys_int64s:I keys_strings:S "
     "keys_tensor:t values_floats:F values_int64s:I values_strings:S values_tensor:t"},
    {"LinearClassifier",
     "classlabels_ints:I classlabels_strings:S coefficients:F! intercepts:F multi_class:i "
     "post_transform:s(NONE,SOFTMAX,LOGISTIC,SOFTMAX_ZERO,PROBIT)"},
    {"LinearRegressor", "coefficients:F intercepts:F post_transform:s(NONE,SOFTMAX,LOGISTIC,SOFTMAX_ZERO,PROBIT) targets:i>0"},
    {"Normalizer", "norm:s(MAX,L1,L2)"},
    {"OneHotEncoder", "cats_int64s:I cats_strings:S zeros:i(0,1)"},
    {"SVMClassifier",
     "classlabels_ints:I classlabels_strings:S coefficients:F kernel_params:F kernel_type:s(LINEAR,POLY,RBF,SIGMOID) "
     "post_transform:s(NONE,SOFTMAX,LOGISTIC,SOFTMAX_ZERO,PROBIT) prob_a:F prob_b:F rho:F "
     "support_vectors:F vectors_per_class:I"},
    {"SVMRegressor",
     "coefficients:F kernel_params:F kernel_type:s(LINEAR,POLY,RBF,SIGMOID) n_supports:i one_class:i "
     "post_transform:s(NONE,SOFTMAX,LOGISTIC,SOFTMAX_ZERO,PROBIT) rho:F support_vectors:F"},
    {"Scaler", "offset:F scale:F"},
    {"TreeEnsemble",
     "aggregate_function:i leaf_targetids:I! leaf_weights:t! membership_values:t n_targets:i>0 nodes_falseleafs:I! nodes_falsenodeids:I! "
     "nodes_featureids:I! nodes_hitrates:t nodes_missing_value_tracks_true:I nodes_modes:t! nodes_splits:t! nodes_trueleafs:I! "
     "nodes_truenodeids:I! post_transform:i tree_roots:I!"},
    {"TreeEnsembleClassifier",
     "base_values:F base_values_as_tensor:t class_ids:I class_nodeids:I class_treeids:I class_weights:F class_weights_as_tensor:t "
     "classlabels_int64s:I classlabels_strings:S nodes_falsenodeids:I nodes_featureids:I nodes_hitrates:F nodes_hitrates_as_tensor:t "
     "nodes_missing_value_tracks_true:I nodes_modes:S nodes_nodeids:I nodes_treeids:I nodes_truenodeids:I nodes_values:F "
     "nodes_values_as_tensor:t post_transform:s(NONE,SOFTMAX,LOGISTIC,SOFTMAX_ZERO,PROBIT)"},
    {"TreeEnsembleRegressor",
     "aggregate_function:s(AVERAGE,SUM,MIN,MAX) base_values:F base_values_as_tensor:t n_targets:i>0 nodes_falsenodeids:I "
     "nodes_featureids:I nodes_hitrates:F "
     "nodes_hitrates_as_tensor:t nodes_missing_value_tracks_true:I nodes_modes:S nodes_nodeids:I nodes_treeids:I nodes_truenodeids:I "
     "nodes_values:F nodes_values_as_tensor:t post_transform:s(NONE,SOFTMAX,LOGISTIC,SOFTMAX_ZERO,PROBIT) target_ids:I target_nodeids:I "
     "target_treeids:I target_weights:F "
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
