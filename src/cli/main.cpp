#include "base/error.h"
#include "cli/verbs.h"
#include "media/info.h"
#include "project/limits.h"
#include "project/project.h"
#include "project/span.h"

#include <fmt/format.h>

#include <chrono>
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
    for (std::size_t i = 0; i < project.shots.size(); ++i) {
        const Shot& s = std::as_const(project.shots)[i];
        if (s.id == name || s.name == name) return project.shots[i];
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

double number_in(const std::string& text, const std::string& option, Range range) {
    return must_hold(number_in(text, option), option, range);
}

double must_hold(double v, const std::string& option, Range range) {
    if (range.holds(v)) return v;
    throw CLI::ValidationError(option, number_text(v) + " must lie " + text_of(range));
}

Seconds seconds_in(const std::string& text, const std::string& option) {
    Seconds t;
    try {
        t = Rational::parse(text, option);
    } catch (const Error& e) {
        throw CLI::ValidationError(option, e.what_failed() + ": " + e.mend());
    }
    if (!limits::kTime_s.holds(t.to_double()))
        throw CLI::ValidationError(option, "'" + text + "' must lie " + text_of(limits::kTime_s));
    return t;
}

Seconds moment_in(const std::string& text, const std::string& option, const Project& project,
                  const Shot& shot, MediaLibrary& library) {
    return moment_of(project, shot, library, seconds_in(text, option), option + " " + text);
}

Seconds end_in(const std::string& text, const std::string& option, const Project& project, const Shot& shot,
               MediaLibrary& library) {
    const Seconds end = seconds_in(text, option), frame = Rational(1) / shot.timing.rate;
    // The last frame before it must be one of the shot's.
    moment_of(project, shot, library, std::max(Seconds(0), end - frame), option + " " + text);
    return end;
}

CLI::Validator within(Range range) {
    return CLI::Validator(
        [range](std::string& text) -> std::string {
            char* end = nullptr;
            const double v = std::strtod(text.c_str(), &end);
            if (!text.empty() && *end == '\0' && range.holds(v)) return {};
            return "'" + text.substr(0, 40) + "' must be a number " + text_of(range);
        },
        "(" + number_text(range.low) + " to " + number_text(range.high) + ")");
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

namespace {

/// Interrupts become a Cancel, so that long work stops between two steps and leaves nothing half-written.
/// What does not ask for it within a moment, or is told a second time, is ended from here: everything is
/// written beside its name first, so that is safe at any moment. Whatever comes within the first second is
/// the same interrupt: programs that start others send it to them and to their whole group, so it comes
/// twice.
void watch_for_interrupts(const porb::Cancel& cancel) {
    sigset_t signals;
    sigemptyset(&signals);
    for (const int signal : {SIGINT, SIGTERM, SIGHUP}) sigaddset(&signals, signal);
    pthread_sigmask(SIG_BLOCK, &signals, nullptr);
    std::thread([cancel, signals] {
        int which = 0;
        sigwait(&signals, &which);
        cancel.raise();
        std::this_thread::sleep_for(std::chrono::seconds(1));
        constexpr timespec kNone{0, 0}, kPatience{4, 0};
        while (sigtimedwait(&signals, nullptr, &kNone) > 0) {
        }
        sigtimedwait(&signals, nullptr, &kPatience);
        constexpr std::string_view words = "porbit: stopped; nothing was written\n";
        [[maybe_unused]] const auto n = ::write(STDERR_FILENO, words.data(), words.size());
        ::_exit(1);
    }).detach();
}

} // namespace

int main(int argc, char** argv) {
    using namespace porb;
    quiet_media_libraries();
    const cli::Run run;
    watch_for_interrupts(run.cancel);

    CLI::App app("porbit: Pale Orbit's command line. Turns the pictures of a rig into spheres.", "porbit");
    app.set_version_flag("--version", "porbit 0.1.0");
    app.require_subcommand(1);
    app.add_option("--wait", *run.wait_s,
                   "Seconds to wait for a project that another program is changing (60 unless set)")
        ->check(cli::within({0, 1e6}));
    app.add_option_function<double>(
           "--memory", [&](double gigabytes) { run.memory->set_limit(std::size_t(gigabytes * 1e9)); },
           fmt::format(
               "Gigabytes that all caches may take together (a third of the machine's, {:.1f}, unless set)",
               double(run.memory->limit()) / 1e9))
        ->check(cli::within(kMemory_gb));
    cli::add_project_verbs(app, run);
    cli::add_rig_verbs(app, run);
    cli::add_solve_verbs(app, run);
    cli::add_level_verbs(app, run);
    cli::add_match_verbs(app, run);
    cli::add_grade_verbs(app, run);
    cli::add_seam_verbs(app, run);
    cli::add_line_verbs(app, run);
    cli::add_stereo_verbs(app, run);
    cli::add_patch_verbs(app, run);
    cli::add_picture_verbs(app, run);
    cli::add_proxy_verbs(app, run);
    cli::add_file_verbs(app, run);
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
        std::cerr << "porbit: " << words_of(e) << "\n";
        return 1;
    }
    return 0;
}
