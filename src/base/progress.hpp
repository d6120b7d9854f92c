// How far a long job is. The core calls it often; whoever shows it decides how seldom to draw.
#pragma once

#include <functional>

#include "base/time.hpp"

namespace wavecrest {
namespace base {

struct ProgressState {
    Time done{};                  // media time finished
    Time total{};                 // media time in all; 0 when unknown
    Time kept{};                  // the beginning of it that an earlier run finished, which costs next to nothing
    const char* doing = nullptr;  // of another kind of work than before: what it is
};

using Progress = std::function<void(const ProgressState&)>;

}  // namespace base

using base::Progress;
using base::ProgressState;

}  // namespace wavecrest
