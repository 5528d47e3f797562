#include "base/error.h"

namespace porb {

namespace {
std::string joined(const std::string& what_failed, const std::string& where, const std::string& mend) {
    std::string line = where.empty() ? what_failed : where + ": " + what_failed;
    if (!mend.empty()) line += ". " + mend;
    if (!line.empty() && line.back() != '.') line += '.';
    return line;
}
} // namespace

Error::Error(std::string what_failed, std::string where, std::string mend)
    : std::runtime_error(joined(what_failed, where, mend)), what_failed_(std::move(what_failed)),
      where_(std::move(where)), mend_(std::move(mend)) {}

} // namespace porb
