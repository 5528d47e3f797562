#pragma once

#include <QApplication>
#include <QElapsedTimer>

#include <functional>

namespace porb::app {

/// The application, in which an exception that leaves painting, a timer or any other event becomes a message
/// and not the end of the program: the project is as it was before that event.
class Application : public QApplication {
  public:
    using QApplication::QApplication;
    /// Told what went wrong, the same words at most once in a few seconds.
    void set_reporter(std::function<void(const QString&)> reporter) { reporter_ = std::move(reporter); }
    bool notify(QObject* receiver, QEvent* event) override;

  private:
    void report(const QString& words);
    std::function<void(const QString&)> reporter_;
    QString said_;
    QElapsedTimer since_;
};

} // namespace porb::app
