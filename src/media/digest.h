#pragma once

#include <string>
#include <string_view>

namespace porb {

/// SHA-256 (FIPS 180-4) of a byte followed by others, as 64 hex digits. Thread safe; about 4 ms a megabyte.
std::string sha256_hex(std::string_view bytes, char before);

} // namespace porb
