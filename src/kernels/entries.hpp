// The kernels that exist once an instruction set, as they are declared in each set's namespace: a program for one set leaves the others out
// (lathe/static_kit.hpp), and defines them as refusals instead. One that is missing here stays in such a program, which is only larger.
#pragma once

#include <array>
#include <string_view>

namespace lathe::kernels {

struct KernelEntry {
  std::string_view result, name, parameters;
};

// What their parameters name, declared.
inline constexpr std::string_view kParameterTypes =
    "enum class PixelKind; enum class TapeType : uint8_t; enum class WideNumber : uint8_t; struct ArgArguments;\n"
    "struct ContendersArguments; struct Corners; struct Dense64Arguments; struct Dense8Arguments;\n"
    "struct DenseArguments; struct Depthwise8Arguments; struct DotsArguments; struct FewArguments;\n"
    "struct GateArguments; struct GridArguments; struct MixArguments; struct NarrowArguments; struct NarrowPanels;\n"
    "struct PartedRows; struct PixelLine; struct PlaneArguments; struct Pool8Arguments; struct PoolAnyArguments;\n"
    "struct PoolArguments; struct Range; struct ResampleArguments; struct RowArguments; struct RowPart; struct PartStatistics;\n"
    "struct SampledArguments; struct SampledPixelsArguments; struct SoftenArguments; struct SpectrumPlan; struct Tape;\n"
    "struct TapeOperand; struct TopArguments;\n"
    "struct WideReductionArguments; struct WinogradInput; struct WinogradOutput; struct WinogradWeights;\n";

inline constexpr std::array kEntries = std::to_array<KernelEntry>({
    {"void", "SoftenHere", "const SoftenArguments&"},
    {"void", "DotsHere", "const DotsArguments&"},
    {"void", "MixHere", "const MixArguments&"},
    {"void", "DenseHere", "const DenseArguments&"},
    {"void", "Dense64Here", "const Dense64Arguments&"},
    {"void", "Dense8Here", "const Dense8Arguments&"},
    {"void", "NarrowProductHere", "const NarrowArguments&"},
    {"void", "WidenPanelHere", "const NarrowPanels&, int64_t, int64_t, int64_t, float*"},
    {"void", "Depthwise8Here", "const Depthwise8Arguments&"},
    {"void", "FewHere", "const FewArguments&"},
    {"void", "GatesHere", "const GateArguments&"},
    {"void", "ResamplePixelsHere", "const PixelLine&, const float*, const float*, float* const*"},
    {"void", "StorePixelsHere", "const float* const*, int64_t, PixelKind, bool, void* const*"},
    {"void", "PlaneHere", "const PlaneArguments&"},
    {"void", "InterleaveHere", "const float*, int64_t, int64_t, int64_t, float*"},
    {"void", "PoolHere", "const PoolArguments&"},
    {"void", "Pool8Here", "const Pool8Arguments&"},
    {"void", "PoolAnyHere", "const PoolAnyArguments&"},
    {"double", "BurnHere", "int64_t, float*"},
    {"double", "ReadHere", "const void*, int64_t, int64_t, float*"},
    {"void", "FindRangeHere", "const float*, int64_t, Range&"},
    {"void", "ToBytesHere", "const float*, int64_t, float, int, uint8_t*"},
    {"void", "ReduceWideHere", "WideNumber, const WideReductionArguments&"},
    {"void", "ResampleHere", "const ResampleArguments&"},
    {"void", "ResampleRowsHere", "const ResampleArguments&"},
    {"void", "RowsHere", "const RowArguments&"},
    {"void", "MeasurePartHere", "const RowPart&, PartStatistics&"},
    {"void", "FinishPartHere", "const RowPart&"},
    {"void", "SampledHere", "const SampledArguments&"},
    {"void", "SampledPixelsHere", "const SampledPixelsArguments&"},
    {"bool", "FindTapsHere", "const GridArguments&"},
    {"int64_t", "ContendersHere", "const ContendersArguments&"},
    {"void", "ArgHere", "const ArgArguments&"},
    {"void", "TopHere", "const TopArguments&"},
    {"void", "SpectrumHere", "const SpectrumPlan&, int64_t, double*, double*, double*"},
    {"void", "TakeHere", "int, const void*, int64_t, void*, int64_t"},
    {"void", "WeaveHere", "int, const void*, int64_t, int64_t, void*, int64_t"},
    {"bool", "OverlappedHere", "const Corners&, int64_t, float, float, float, float, float"},
    {"int64_t", "FindAboveHere", "const float*, int64_t, float, int32_t*"},
    {"void", "RunTapeHere", "const Tape&, const TapeOperand*, void*, TapeType, int64_t"},
    {"void", "WideF64Here", "const Tape&, const TapeOperand*, void*, TapeType, int64_t"},
    {"void", "WideI32Here", "const Tape&, const TapeOperand*, void*, TapeType, int64_t"},
    {"void", "WideI64Here", "const Tape&, const TapeOperand*, void*, TapeType, int64_t"},
    {"void", "Weights2Here", "const WinogradWeights&"},
    {"void", "Input2Here", "const WinogradInput&"},
    {"void", "Output2Here", "const WinogradOutput&"},
    {"void", "Weights4Here", "const WinogradWeights&"},
    {"void", "Input4Here", "const WinogradInput&"},
    {"void", "Output4Here", "const WinogradOutput&"},
});
// Of those, what other kernels pick while they run, and not whoever makes a step.
inline constexpr std::array<std::string_view, 4> kPickedWhileRunning{"RunTapeHere", "TakeHere", "WeaveHere", "SpectrumHere"};
// Beside those, of processors that have tiles (kernels/tiles.hpp) as well.
inline constexpr std::array kTileEntries = std::to_array<KernelEntry>({
    {"void", "Dense8InTiles", "const Dense8Arguments&"},
    {"void", "DenseByTilesHere", "const DenseArguments&"},
    {"void", "PartedByTilesHere", "const DenseArguments&, const PartedRows&"},
    {"void", "PartFloatsHere", "int, const float*, int64_t, uint16_t*, int64_t"},
});

}  // namespace lathe::kernels
