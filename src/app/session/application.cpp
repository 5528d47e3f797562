#include "app/session/application.h"

#include "base/error.h"

#include <QTimer>

#include <cstdio>

namespace porb::app {

namespace {
constexpr qint64 kQuietMs = 3000;
}

bool Application::notify(QObject* receiver, QEvent* event) {
    try {
        return QApplication::notify(receiver, event);
    } catch (const Cancelled&) {
        return false;
    } catch (const std::exception& e) {
        report(QString::fromStdString(words_of(e)));
    } catch (...) {
        report("something went wrong that has no name.");
    }
    return false;
}

void Application::report(const QString& words) {
    if (words == said_ && since_.isValid() && since_.elapsed() < kQuietMs) return;
    said_ = words;
    since_.restart();
    std::fprintf(stderr, "pale-orbit: %s\n", qPrintable(words));
    // After the event that failed: a message must not be painted from within a painting.
    QTimer::singleShot(0, this, [this, words] {
        if (reporter_) reporter_("This could not be done or shown: " + words);
    });
}

} // namespace porb::app
