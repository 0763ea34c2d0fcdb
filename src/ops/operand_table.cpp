// What the standard says about the operands of its ops, in the notation of OpDef::operands. Left out: what an op's inference says in a
// few lines of its own because it depends on values (layouts, block sizes, equations), and ops that take anything.
#include "ops/operands.hpp"
#include "ops/support.hpp"

namespace lathe::ops {
namespace {

struct Row {
  const char* name;
  int since;  // holds for definitions from this version on, until the next row of the same op
  const char* operands;
};

constexpr const char* kScalar = "[]|[1]";  // many exporters write one element of rank 1 where the standard says a scalar

// "$" stands for kScalar.
constexpr Row kRows[] = {
    // Products and convolutions.
    {"Conv", 1, "X:float[N,c*@group=1,+s] W:=X[M,c,...s] B:=X[M];M/@group=1"},
    {"ConvTranspose", 1, "X:float[N,C,+s] W:=X[C,m,...s] B:=X[m*@group=1];C/@group=1"},
    {"ConvInteger", 10, "x:byte[N,c*@group=1,+s] w:byte[M,c,...s] x_zero_point:=x$ w_zero_point:=w$|[M];M/@group=1"},
    {"QLinearConv", 10,
     "x:byte[N,c*@group=1,+s] x_scale:f32$ x_zero_point:=x$ w:byte[M,c,...s] w_scale:f32$|[M] w_zero_point:=w$|[M] y_scale:f32$ "
     "y_zero_point:byte$ B:i32[M];M/@group=1"},
    {"DeformConv", 19,
     "X:float[N,c*@group=1,H,W] W:=X[M,c,kh,kw] offset:=X[N,2*@offset_group=1*kh*kw,oh,ow] B:=X[M] "
     "mask:=X[N,@offset_group=1*kh*kw,oh,ow];M/@group=1"},
    {"Gemm", 6, "A:number[_,_] B:=A[_,_] C:=A"},
    {"MatMulInteger", 10, "A:byte[...d,M,K]|[K] B:byte[...e,K,N]|[K] a_zero_point:=A$|[M]|[...=d,M,1] b_zero_point:=B$|[N]|[...=e,1,N]"},
    {"QLinearMatMul", 10,
     "a:byte_or_f8[...d,M,K]|[K] a_scale:float$|[M]|[...=d,M,1] a_zero_point:=a$|[M]|[...=d,M,1] b:byte_or_f8[...e,K,N]|[K] "
     "b_scale:float$|[N]|[...=e,1,N] b_zero_point:=b$|[N]|[...=e,1,N] y_scale:float$ y_zero_point:byte_or_f8$"},
    // Normalisations.
    {"BatchNormalization", 1, "X:float[N,C,...s]|[N] scale:float[C] B:float[C] input_mean:float[C] input_var:float[C]"},
    {"InstanceNormalization", 1, "input:float[N,C,+s] scale:=input[C] B:=input[C]"},
    {"GroupNormalization", 18, "X:float[N,C,...s] scale:=X[@num_groups] bias:=X[@num_groups];C/@num_groups"},
    {"GroupNormalization", 21, "X:float[N,C,...s] scale:=X[C] bias:=X[C];C/@num_groups"},
    {"LayerNormalization", 17, "X:float Scale:=X[~X] B:=X[~X];@axis<X"},
    {"RMSNormalization", 23, "X:float scale:float[~X];@axis<X"},
    {"LpNormalization", 1, "input:float;@axis<input"},
    {"MeanVarianceNormalization", 9, "X:float;@axes<X"},
    {"Hardmax", 1, "input:float;@axis<=input"},
    {"Hardmax", 13, "input:float;@axis<input"},
    {"LRN", 1, "X:float[N,C,...s]"},
    // Pooling and regions.
    {"MaxUnpool", 9, "X:float[N,C,+s] I:i64[N,C,...=s] output_shape!:i64[_]"},
    {"MaxRoiPool", 1, "X:float[N,C,H,W] rois:=X[R,5]"},
    {"RoiAlign", 10, "X:float[N,C,H,W] rois:=X[R,4] batch_indices:i64[R]"},
    {"NonMaxSuppression", 10, "boxes:f32[B,n,4] scores:f32[B,c,n] max_output_boxes_per_class:i64$ iou_threshold:f32$ score_threshold:f32$"},
    {"GridSample", 16, "X:number[N,C,+s] grid:float[N,...s,_]"},
    {"AffineGrid", 20, "theta:float[N,_,_] size!:i64[_]"},
    {"Col2Im", 18, "input:number[N,_,_] image_shape!:i64[a] block_shape!:i64[a]"},
    // Recurrent layers.
    {"RNN", 7, "X:float[_,_,I] W:=X[D,H,I] R:=X[D,H,H] B:=X[D,2*H] sequence_lens:i32[_] initial_h:=X[_,_,H]"},
    {"GRU", 7, "X:float[_,_,I] W:=X[D,3*H,I] R:=X[D,3*H,H] B:=X[D,6*H] sequence_lens:i32[_] initial_h:=X[_,_,H]"},
    {"LSTM", 7,
     "X:float[_,_,I] W:=X[D,4*H,I] R:=X[D,4*H,H] B:=X[D,8*H] sequence_lens:i32[_] initial_h:=X[_,_,H] initial_c:=X[_,_,H] P:=X[D,3*H]"},
    // Elementwise.
    {"Clip", 11, "input:number min:=input$ max:=input$"},
    {"PRelu", 7, "X:number slope:=X[~X]"},
    {"IsNaN", 9, "X:float"},
    {"IsInf", 10, "X:float"},
    {"Dropout", 12, "data:float ratio:float$ training_mode:bool$"},
    // Movement and selection.
    {"Reshape", 5, "data:any shape!:i64[_]"},
    {"Squeeze", 13, "data:any axes!:i64[]|[_]"},
    {"Unsqueeze", 13, "data:any axes!:i64[]|[_]"},
    {"Slice", 10, "data:any starts!:index[k] ends!:=starts[k] axes!:=starts[k] steps!:=starts[k]"},
    {"Expand", 8, "input:any shape!:i64[_]"},
    {"Tile", 6, "input:any repeats!:i64[_]"},
    {"Pad", 11, "data:any pads!:i64[_] constant_value:=data$ axes!:index[_]"},
    {"Split", 13, "input:any split!:i64[_]"},
    {"Gather", 1, "data:any[_,...r] indices:index;@axis<data"},
    {"GatherElements", 11, "data:any[...r] indices:index[...r];@axis<data"},
    {"GatherND", 11, "data:any[_,...r] indices:i64[...q,_]"},
    {"Scatter", 9, "data:any[...r] indices:index[...r] updates:=data[...r];@axis<data"},
    {"ScatterElements", 11, "data:any[...r] indices:index[...r] updates:=data[...r];@axis<data"},
    {"ScatterND", 11, "data:any[_,...r] indices:i64[...q,_] updates:=data"},
    {"TensorScatter", 24, "past_cache:any[B,...r] update:=past_cache[B,...r] write_indices:i64[B];@axis<past_cache"},
    {"Compress", 9, "input:any condition:bool[_];@axis<input"},
    {"Unique", 11, "X:any;@axis<X"},
    {"OneHot", 9, "indices:number depth!:number$ values:any[2]"},
    {"ReverseSequence", 10, "input:any[_,_,...r] sequence_lens:i64[_]"},
    {"Trilu", 14, "input:any[...b,_,_] k!:i64$"},
    {"CumSum", 11, "x:number axis!:index$"},
    {"DepthToSpace", 1, "input:any[N,C,H,W]"},
    {"SpaceToDepth", 1, "input:any[N,C,H,W]"},
    {"CenterCropPad", 18, "input_data:any shape!:index[_];@axes<input_data"},
    {"TopK", 10, "X:number K!:i64$;@axis<X"},
    {"Resize", 10, "X:any scales!:f32[_]"},
    {"Resize", 11, "X:any roi!:float[_] scales!:f32[_] sizes!:i64[_]"},
    {"Upsample", 9, "X:any scales!:f32[_]"},
    // Reductions: axes as an operand.
    {"ReduceSum", 13, "data:number axes!:i64[]|[_]"},
    {"ReduceMean", 18, "data:number axes!:i64[]|[_]"},
    {"ReduceMax", 18, "data:any axes!:i64[]|[_]"},
    {"ReduceMin", 18, "data:any axes!:i64[]|[_]"},
    {"ReduceProd", 18, "data:number axes!:i64[]|[_]"},
    {"ReduceL1", 18, "data:number axes!:i64[]|[_]"},
    {"ReduceL2", 18, "data:number axes!:i64[]|[_]"},
    {"ReduceSumSquare", 18, "data:number axes!:i64[]|[_]"},
    {"ReduceLogSum", 18, "data:number axes!:i64[]|[_]"},
    {"ReduceLogSumExp", 18, "data:number axes!:i64[]|[_]"},
    // Quantisation; how scales lie along their axis depends on attributes.
    {"QuantizeLinear", 10, "x:float_or_i32 y_scale:scale y_zero_point:any"},
    {"DequantizeLinear", 10, "x:any x_scale:scale x_zero_point:=x"},
    {"DynamicQuantizeLinear", 11, "x:f32"},
    // Made from sizes.
    {"ConstantOfShape", 9, "input!:i64[_]"},
    {"Range", 11, "start!:number$ limit!:=start$ delta!:=start$"},
    {"EyeLike", 9, "input:any[_,_]"},
    {"Bernoulli", 15, "input:float"},
    {"Multinomial", 7, "input:float[B,C]"},
    // Signals.
    {"DFT", 17, "input:float[_,...r,_] dft_length!:index$"},
    {"DFT", 20, "input:float[_,...r,_] dft_length!:index$ axis!:i64$"},
    {"STFT", 17, "signal:float[B,L,_]|[B,L] frame_step!:index$ window:=signal[_] frame_length!:index$"},
    {"HannWindow", 17, "size!:index$"},
    {"HammingWindow", 17, "size!:index$"},
    {"BlackmanWindow", 17, "size!:index$"},
    {"MelWeightMatrix", 17, "num_mel_bins:index$ dft_length:index$ sample_rate:index$ lower_edge_hertz:float$ upper_edge_hertz:float$"},
    // Losses.
    {"NegativeLogLikelihoodLoss", 12, "input:float[N,C,...s] target:index[N,...=s] weight:=input[C]"},
    {"SoftmaxCrossEntropyLoss", 12, "scores:float[N,C,...s] labels:index[N,...=s] weights:=scores[C]"},
    // Control flow and sequences.
    {"If", 1, "cond:bool$"},
    {"Loop", 1, "M:i64$ cond:bool$"},
    {"SequenceAt", 11, "input_sequence:any position:index$"},
    {"SequenceInsert", 11, "input_sequence:any tensor:any position:index$"},
    {"SequenceErase", 11, "input_sequence:any position:index$"},
    {"SplitToSequence", 11, "input:any split:index$|[_]"},
    // Text and pictures.
    {"StringNormalizer", 10, "X:string[_]|[1,_]"},
    {"ImageDecoder", 20, "encoded_stream:u8[_]"},
    // The companion domain.
    {"ArrayFeatureExtractor", 1, "X:any[...r,_] Y:i64"},
    {"LinearClassifier", 1, "X:number[_,_]|[_]"},
    {"LinearRegressor", 1, "X:number[_,_]|[_]"},
    {"SVMClassifier", 1, "X:number[_,_]|[_]"},
    {"SVMRegressor", 1, "X:number[_,_]|[_]"},
    {"TreeEnsemble", 5, "X:float[_,_]|[_]"},
    {"TreeEnsembleClassifier", 1, "X:number[_,_]|[_]"},
    {"TreeEnsembleRegressor", 1, "X:number[_,_]|[_]"},
    {"Normalizer", 1, "X:number[_,_]|[_]"},
    {"Scaler", 1, "X:number"},
};

}  // namespace

void add_operands(std::vector<OpDef>& defs) {
  for (OpDef& d : defs) {
    const Row* best = nullptr;
    for (const Row& r : kRows) {
      if (d.name == r.name && r.since <= d.since && (!best || r.since >= best->since)) best = &r;
    }
    if (!best) continue;
    for (const char* c = best->operands; *c != '\0'; ++c) {
      if (*c == '$') d.operands += kScalar;
      else d.operands += *c;
    }
  }
}

}  // namespace lathe::ops
