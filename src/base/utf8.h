#pragma once

#include <string>
#include <string_view>

namespace porb {

/// Whether these bytes are UTF-8 text (RFC 3629: shortest forms, no surrogates).
bool is_utf8(std::string_view bytes);
/// The bytes as text: what is not UTF-8 becomes U+FFFD. For names made from those of files, which may be any
/// bytes.
std::string as_utf8(std::string_view bytes);

} // namespace porb
