// cli: porbit, the command line. Each verb reads its words, calls the core and prints; nothing is computed
// here.
#pragma once

#include "base/progress.h"

#include <CLI/CLI.hpp>

namespace porb {
class MediaLibrary;
struct Project;
struct Shot;
} // namespace porb

namespace porb::cli {

/// Adds every verb to `app`. A verb's work runs when its words were right; it throws Error when it could not
/// be done.
void add_project_verbs(CLI::App& app); ///< new, rig, shot
void add_solve_verbs(CLI::App& app, const Cancel& cancel);
void add_level_verbs(CLI::App& app, const Cancel& cancel);
void add_match_verbs(CLI::App& app, const Cancel& cancel);
void add_grade_verbs(CLI::App& app);                      ///< curve, grade, denoise
void add_seam_verbs(CLI::App& app, const Cancel& cancel); ///< shape, shelter
void add_line_verbs(CLI::App& app, const Cancel& cancel); ///< lines, crossings, flow
void add_picture_verbs(CLI::App& app, const Cancel& cancel); ///< still, master
void add_file_verbs(CLI::App& app, const Cancel& cancel);    ///< inspect, tag, simulate
void add_rig_verbs(CLI::App& app,
                   const Cancel& cancel); ///< takes, sync, circles, profiles, calibration, motion

/// The shot of that name or id, the first when `name` is empty. Throws Error when there is none.
Shot& chosen_shot(Project& project, const std::string& name, const std::string& file);

/// "ID=VALUE" taken apart. Throws CLI::ValidationError (exit status 2).
std::pair<std::string, std::string> id_and_value(const std::string& word, const std::string& option);
/// A finite number. Throws CLI::ValidationError.
double number_in(const std::string& text, const std::string& option);

/// What was odd in the sources that were read, on standard error.
void print_remarks(const Project& project, const Shot& shot, const MediaLibrary& library);

/// One line on standard error, rewritten in place, when it is a terminal; silent otherwise.
void show_progress(const std::string& line, bool last = false);

} // namespace porb::cli
