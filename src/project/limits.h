#pragma once

#include "optics/limits.h"

#include <cstdint>

/// What the values of a project may be: the one place that says it. Files, edits of the window, number fields
/// and options of the command line all ask here; rules between values stand with their fields (fields_*.h).
namespace porb::limits {

// Text, in characters (bytes of UTF-8).
inline constexpr std::size_t kId = 256, kNote = 4096, kOriginDetail = 1024, kReason = 256, kUnit = 16;

/// Of a whole project file, written or read.
inline constexpr std::uint64_t kProjectBytes = std::uint64_t(256) << 20;
inline constexpr std::size_t kPoints = 200000, kSteadyPath = 2000000, kShots = 2000, kMedia = 10000;

// Time.
inline constexpr Range kTime_s{-1e7, 1e7};
inline constexpr Range kRate{0.01, 1000};
inline constexpr Range kDrift_ppm{-1e4, 1e4};

// Cameras.
inline constexpr Range kReach_deg{0, 180}, kFeather_deg{0, 90};
inline constexpr Range kDistance_m{0, 1e6}; // 0 stands for infinitely far
inline constexpr Range kEv{-16, 16}, kVignetting{-1, 1};

// Control points and solves.
inline constexpr Range kNumber{0, 2e9}; // ids and counts
inline constexpr Range kCorrelation{-1, 1};
inline constexpr Range kSamples{1, 1000};
inline constexpr Range kTurnSigma_deg{0.001, 180}, kPositionSigma_mm{0.001, 10000};
inline constexpr Range kSigma_percent{0.001, 100}, kDistortionSigma{1e-6, 10};
inline constexpr Range kResidualLimit_px{0.01, 1000};
inline constexpr Range kFigure{0, 1e9}, kValue{-1e12, 1e12}, kValueSigma{0, 1e12};

// Levelling and steadying.
inline constexpr Range kShare{0, 1};
inline constexpr Range kFollow_s{0, 3600}, kReadout_s{-1, 1}, kStep_s{1e-6, 1e4};
inline constexpr Range kRotation{-7, 7}; // of a rotation vector, radians

// Seams.
inline constexpr Range kZone_deg{1, 90}, kSmoothness{0.1, 10}, kNearest_m{0.2, 100};
inline constexpr Range kWidestBand_deg{1, 60};
inline constexpr Range kShapeRadii{
    -3, 3}; // from the circle's centre: corners may lie well outside the image circle
inline constexpr Range kShelterFeather_deg{0.05, 90};
inline constexpr Range kYaw_deg{-360, 360}, kPitch_deg{-90, 90};
inline constexpr Range kPlane_per_m{-1e3, 1e3}; // inverse distance by direction
inline constexpr Range kOvalWidth_deg{0.1, 360}, kOvalHeight_deg{0.1, 180};
inline constexpr Range kEase_s{0, 60};
inline constexpr Range kScanStep_s{0, 3600}, kApart_px{0, 1e5};

// Stereo.
inline constexpr Range kIpd_m{0.001, 1}, kConverge_m{0, 1e6}; // 0 stands for infinitely far
inline constexpr Range kMerge_deg{0, 90}, kComfort_deg{0.05, 20}, kBorder_deg{0, 45};

// Patches.
inline constexpr Range kPatchWidth_deg{1, 150}, kPatchDistance_m{0.05, 1000};
inline constexpr Range kPatchSide_px{64, 8192};
inline constexpr Range kPatchGain{0, 64}, kPatchOffset{-4, 4};

// Grade.
inline constexpr Range kContrast{0.1, 10}, kPivot{0.001, 10};
inline constexpr Range kLift{-1, 1}, kGamma{0.1, 10}, kGain{0, 16}, kSaturation{0, 16};

// Deliverables.
inline constexpr Range kDepth{8, 10}, kWidth_px{64, 16384}, kCrf{0, 51}, kBitRate{0, 2e9};

} // namespace porb::limits
