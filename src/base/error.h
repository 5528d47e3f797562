// base: what every other room stands on: errors, exact time, JSON with paths, files moved into place,
// parallel loops, cancel and progress. Knows no other room.
#pragma once

#include <stdexcept>
#include <string>

namespace porb {

/// The one error type. `what_failed` is a short sentence without a full stop, `where` names the file, JSON
/// path, camera or frame, `mend` tells the reader how to put it right. message() joins them on one line.
class Error : public std::runtime_error {
  public:
    Error(std::string what_failed, std::string where, std::string mend);

    const std::string& what_failed() const { return what_failed_; }
    const std::string& where() const { return where_; }
    const std::string& mend() const { return mend_; }
    std::string message() const { return what(); }

  private:
    std::string what_failed_, where_, mend_;
};

/// What an exception says, for people: of the standard library's file errors, the file and the reason.
std::string words_of(const std::exception& e);

/// Thrown by long work when its Cancel was raised; never shown as a failure.
class Cancelled : public std::exception {
  public:
    const char* what() const noexcept override { return "cancelled"; }
};

} // namespace porb
