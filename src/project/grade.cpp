#include "project/grade.h"

namespace porb {

bool is_neutral(const Grade& grade) {
    Grade without = grade; // of what says nothing by itself
    without.on = true;
    without.pivot = Grade().pivot;
    without.lut_strength = 1;
    if (grade.lut_strength == 0) without.lut.clear();
    return without == Grade();
}

} // namespace porb
