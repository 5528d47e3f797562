#pragma once

#include "support/support.h"

namespace porb::test {

/// What porbit says to these words, which must end with that status.
inline std::string porbit(const std::string& words, int expected = 0) {
    int status = -1;
    const std::string out = run(porbit_program() + " " + words + " 2>&1", status);
    INFO(words << "\n" << out);
    CHECK(status == expected);
    return out;
}

/// Whether a text holds some words.
inline bool says(const std::string& text, const char* what) {
    return text.find(what) != std::string::npos;
}

} // namespace porb::test
