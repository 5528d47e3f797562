#include "base/error.h"
#include "cli/verbs.h"
#include "media/info.h"
#include "project/project.h"
#include "project/span.h"

#include <csignal>
#include <iostream>
#include <thread>
#include <unistd.h>

namespace porb::cli {

std::pair<std::string, std::string> id_and_value(const std::string& word, const std::string& option) {
    const auto equals = word.find('=');
    if (equals == std::string::npos || equals == 0 || equals + 1 == word.size())
        throw CLI::ValidationError(option, "'" + word + "' must be written ID=VALUE");
    return {word.substr(0, equals), word.substr(equals + 1)};
}

Shot& chosen_shot(Project& project, const std::string& name, const std::string& file) {
    if (project.shots.empty()) throw Error("has no shot", file, "Make a project with porbit new");
    if (name.empty()) return project.shots.front();
    std::string known;
    for (auto& s : project.shots) {
        if (s.id == name || s.name == name) return s;
        known += (known.empty() ? "" : ", ") + s.name;
    }
    throw Error("has no shot '" + name + "'", file, "Use one of: " + known);
}

double number_in(const std::string& text, const std::string& option) {
    char* end = nullptr;
    const double v = std::strtod(text.c_str(), &end);
    if (text.empty() || *end != '\0' || !std::isfinite(v))
        throw CLI::ValidationError(option, "'" + text + "' is not a number");
    return v;
}

void print_remarks(const Project& project, const Shot& shot, const MediaLibrary& library) {
    for (const auto& remark : source_remarks(project, shot, library))
        std::cerr << "porbit: note: " << remark << "\n";
}

void show_progress(const std::string& line, bool last) {
    if (!::isatty(STDERR_FILENO)) return;
    std::cerr << "\r\033[K" << line << (last ? "\n" : "") << std::flush;
}

} // namespace porb::cli

int main(int argc, char** argv) {
    using namespace porb;
    quiet_media_libraries();
    // Interrupts become a Cancel, so that long work stops between two steps and leaves nothing half-written.
    const Cancel cancel;
    sigset_t signals;
    sigemptyset(&signals);
    sigaddset(&signals, SIGINT);
    sigaddset(&signals, SIGTERM);
    pthread_sigmask(SIG_BLOCK, &signals, nullptr);
    std::thread([cancel, signals] {
        int which = 0;
        sigwait(&signals, &which);
        cancel.raise();
    }).detach();

    CLI::App app("porbit: Pale Orbit's command line. Turns the pictures of a rig into spheres.", "porbit");
    app.set_version_flag("--version", "porbit 0.1.0");
    app.require_subcommand(1);
    cli::add_project_verbs(app);
    cli::add_rig_verbs(app, cancel);
    cli::add_solve_verbs(app, cancel);
    cli::add_level_verbs(app, cancel);
    cli::add_match_verbs(app, cancel);
    cli::add_grade_verbs(app);
    cli::add_seam_verbs(app, cancel);
    cli::add_line_verbs(app, cancel);
    cli::add_picture_verbs(app, cancel);
    cli::add_file_verbs(app, cancel);
    try {
        app.parse(argc, argv);
    } catch (const CLI::ParseError& e) {
        if (e.get_exit_code() == 0) return app.exit(e);
        std::cerr << "porbit: " << e.what() << " (porbit --help, porbit VERB --help)\n";
        return 2;
    } catch (const Cancelled&) {
        std::cerr << "porbit: stopped; nothing was left behind\n";
        return 1;
    } catch (const std::exception& e) {
        std::cerr << "porbit: " << e.what() << "\n";
        return 1;
    }
    return 0;
}
