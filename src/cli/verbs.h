// cli: porbit, the command line. Each verb reads its words, calls the core and prints; nothing is computed
// here.
#pragma once

#include "base/cache.h"
#include "base/progress.h"
#include "base/range.h"
#include "base/rational.h"

#include <CLI/CLI.hpp>

#include <map>

namespace porb {
class MediaLibrary;
struct Project;
struct Shot;
} // namespace porb

namespace porb::cli {

/// What all verbs share.
struct Run {
    Cancel cancel;                                                       ///< raised by Ctrl-C
    std::shared_ptr<double> wait_s = std::make_shared<double>(60);       ///< for a project that others change
    std::shared_ptr<CacheBound> memory = std::make_shared<CacheBound>(); ///< of all caches together
};

/// Adds every verb to `app`. A verb's work runs when its words were right; it throws Error when it could not
/// be done.
void add_project_verbs(CLI::App& app, const Run& run); ///< new, rig, shot
void add_solve_verbs(CLI::App& app, const Run& run);
void add_level_verbs(CLI::App& app, const Run& run);
void add_match_verbs(CLI::App& app, const Run& run);
void add_grade_verbs(CLI::App& app, const Run& run);   ///< curve, grade, denoise
void add_seam_verbs(CLI::App& app, const Run& run);    ///< shape, shelter
void add_line_verbs(CLI::App& app, const Run& run);    ///< lines, crossings, flow
void add_stereo_verbs(CLI::App& app, const Run& run);  ///< eyes
void add_patch_verbs(CLI::App& app, const Run& run);   ///< patch
void add_picture_verbs(CLI::App& app, const Run& run); ///< still, master
void add_proxy_verbs(CLI::App& app, const Run& run);   ///< proxy
void add_file_verbs(CLI::App& app, const Run& run);    ///< inspect, tag, simulate
void add_rig_verbs(CLI::App& app, const Run& run); ///< takes, sync, circles, profiles, calibration, motion

/// The words that a project's file has for a value (project/fields_*.h), for options.
template <class Word, std::size_t N>
auto by_word(const Word (&words)[N]) {
    std::map<std::string, decltype(words[0].value)> out;
    for (const Word& w : words) out.emplace(w.text, w.value);
    return out;
}

/// The shot of that name or id, the first when `name` is empty. Throws Error when there is none.
Shot& chosen_shot(Project& project, const std::string& name, const std::string& file);

/// "ID=VALUE" taken apart. Throws CLI::ValidationError (exit status 2).
std::pair<std::string, std::string> id_and_value(const std::string& word, const std::string& option);
/// A finite number. Throws CLI::ValidationError.
double number_in(const std::string& text, const std::string& option);
/// The same, within a range; said to be of `option`.
double number_in(const std::string& text, const std::string& option, Range range);
/// `v`, which came with `option`, if the range holds it. Throws CLI::ValidationError.
double must_hold(double v, const std::string& option, Range range);
/// Exact seconds ("1.5", "1001/30000") that a project may hold. Throws CLI::ValidationError.
Seconds seconds_in(const std::string& text, const std::string& option);
/// A moment of the shot at which its sources show something. Throws Error.
Seconds moment_in(const std::string& text, const std::string& option, const Project& project,
                  const Shot& shot, MediaLibrary& library);
/// The same for where a part ends: the end of the shot itself is allowed.
Seconds end_in(const std::string& text, const std::string& option, const Project& project, const Shot& shot,
               MediaLibrary& library);
/// For options: a number of that range, and a number at all.
CLI::Validator within(Range range);

/// What was odd in the sources that were read, on standard error.
void print_remarks(const Project& project, const Shot& shot, const MediaLibrary& library);

/// One line on standard error, rewritten in place, when it is a terminal; silent otherwise.
void show_progress(const std::string& line, bool last = false);

} // namespace porb::cli
