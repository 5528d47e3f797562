#include "base/error.h"

#include <filesystem>
#include <new>

namespace porb {

namespace {
std::string joined(const std::string& what_failed, const std::string& where, const std::string& mend) {
    std::string line = where.empty() ? what_failed : where + ": " + what_failed;
    if (!mend.empty()) line += ". " + mend;
    if (!line.empty() && line.back() != '.') line += '.';
    return line;
}
} // namespace

std::string words_of(const std::exception& e) {
    if (dynamic_cast<const std::bad_alloc*>(&e))
        return "there is not enough memory for this. Close other programs, or work at a smaller size.";
    const auto* file = dynamic_cast<const std::filesystem::filesystem_error*>(&e);
    if (!file) return e.what();
    return joined(file->code().message(), file->path1().string(),
                  "Check the name, the folder and its permissions");
}

Error::Error(std::string what_failed, std::string where, std::string mend)
    : std::runtime_error(joined(what_failed, where, mend)), what_failed_(std::move(what_failed)),
      where_(std::move(where)), mend_(std::move(mend)) {}

} // namespace porb
