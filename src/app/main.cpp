#include "app/session/application.h"
#include "app/shell/main_window.h"
#include "app/shell/memory_dialog.h"
#include "app/widgets/theme.h"
#include "base/error.h"

#include <QApplication>
#include <QCommandLineParser>
#include <QElapsedTimer>
#include <QFileInfo>
#include <QSettings>

#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <thread>

using namespace porb;
using namespace porb::app;

namespace {

template <class Value>
std::optional<Value> named(const QString& word, std::initializer_list<std::pair<const char*, Value>> names) {
    for (const auto& [name, value] : names)
        if (word == name) return value;
    return std::nullopt;
}

/// Waits until the picture has settled, saves the window and leaves; for machines without a monitor.
int save_shot(QApplication& application, MainWindow& window, const QString& file) {
    QElapsedTimer waited;
    waited.start();
    constexpr int kMostMs = 60000, kQuietMs = 400;
    while (waited.elapsed() < kMostMs && !window.picture().settled())
        application.processEvents(QEventLoop::AllEvents, 50);
    QElapsedTimer quiet;
    quiet.start();
    while (quiet.elapsed() < kQuietMs) application.processEvents(QEventLoop::AllEvents, 50);
    if (!window.grab().save(file)) {
        std::fprintf(stderr, "pale-orbit: %s: cannot be written. Check the folder and the ending (.png).\n",
                     qPrintable(file));
        return 1;
    }
    return 0;
}

/// The window is closed and all work was told to stop. What does not within a moment (a step of a large
/// solve) is ended with the program: everything is written beside its name first, so that is safe at any
/// moment.
void end_soon(int status) {
    std::thread([status] {
        constexpr std::chrono::seconds kPatience{2};
        std::this_thread::sleep_for(kPatience);
        std::_Exit(status);
    }).detach();
}

} // namespace

int main(int argc, char** argv) {
    for (int i = 1; i < argc; ++i) {
        const std::string_view word = argv[i];
        const bool only_words = word == "--help" || word == "-h" || word == "--version" || word == "-v";
        if (only_words || (word.starts_with("--offscreen-shot") && !qEnvironmentVariableIsSet("DISPLAY")))
            qputenv("QT_QPA_PLATFORM", "offscreen");
    }
    quiet_media_libraries();
    Application application(argc, argv);
    QApplication::setApplicationName("pale-orbit");
    QApplication::setOrganizationName("pale-orbit");
    QApplication::setApplicationVersion("0.1.0");
    QSettings::setDefaultFormat(QSettings::IniFormat);
    apply_theme(application);

    QCommandLineParser parser;
    parser.setApplicationDescription("Pale Orbit: from the pictures of a rig to a sphere someone stands in.");
    parser.addHelpOption();
    parser.addVersionOption();
    parser.addPositionalArgument("file", "A project (.porb), or the files of a take.", "[file ...]");
    const QCommandLineOption demo("demo", "Open a demo take: dual, pair, ring or stereo.", "name");
    const QCommandLineOption shot("offscreen-shot", "Save a picture of the window and leave.", "file.png");
    const QCommandLineOption station(
        "station", "Start at gather, rig, points, level, match, seams, depth, ground or master.", "name");
    const QCommandLineOption view("view", "Start with the map, window, lens, sheet, rig, pair or down view.",
                                  "name");
    const QCommandLineOption overlays("overlays", "Show footprints and overlaps.");
    const QCommandLineOption time("time", "Put the playhead there.", "seconds");
    const QCommandLineOption coverage("coverage", "Show how many lenses see each part.");
    const QCommandLineOption align("align", "Open with the sources lined up in time.");
    const QCommandLineOption points("points", "Show control points.");
    parser.addOptions({points, demo, shot, station, view, overlays, coverage, align, time});
    parser.process(application);
    const auto wrong = [&](const QString& words) {
        std::fprintf(stderr, "pale-orbit: %s (pale-orbit --help)\n", qPrintable(words));
        return 2;
    };

    MainWindow window(QFileInfo(QSettings().fileName()).path().toStdString(), chosen_memory());
    application.set_reporter([&](const QString& words) { window.session().say(words, Signal::stop); });
    window.show();
    const QStringList files = parser.positionalArguments();
    if (parser.isSet(demo))
        window.open_demo(parser.value(demo));
    else if (files.size() == 1 && files[0].endsWith(".porb")) {
        if (!window.open_project(files[0].toStdString()) && parser.isSet(shot)) return 1;
    } else if (!files.isEmpty())
        window.add_files(files);
    else if (!parser.isSet(shot))
        window.restore_session();
    if (!parser.isSet(shot)) window.offer_recovery();

    if (parser.isSet(station)) {
        if (!window.set_station(parser.value(station)))
            return wrong("'" + parser.value(station) + "' is not a station");
    }
    if (parser.isSet(view)) {
        const auto v = named<ViewMode>(parser.value(view), {{"map", ViewMode::map},
                                                            {"window", ViewMode::window},
                                                            {"lens", ViewMode::lens},
                                                            {"sheet", ViewMode::sheet},
                                                            {"rig", ViewMode::rig},
                                                            {"pair", ViewMode::pair},
                                                            {"down", ViewMode::down}});
        if (!v) return wrong("'" + parser.value(view) + "' is not a view");
        window.picture().set_mode(*v);
    }
    if (parser.isSet(overlays)) window.run("Show footprints"), window.run("Show overlaps");
    if (parser.isSet(coverage)) window.run("Show coverage");
    if (parser.isSet(points)) window.run("Show control points");
    if (parser.isSet(align)) window.run("Align time");
    if (parser.isSet(time))
        window.session().set_playhead(Rational::from_double(parser.value(time).toDouble()));
    if (parser.isSet(shot)) return save_shot(application, window, parser.value(shot));
    const int status = QApplication::exec();
    application.set_reporter({}); // the window goes first
    end_soon(status);
    return status;
}
