#include "app/session/background_job.h"

#include "base/error.h"

#include <QMetaObject>

namespace porb::app {

void BackgroundJob::start(Work work) {
    if (running_) return;
    running_ = true;
    cancel_ = Cancel();
    emit running_changed(true);
    emit progressed(0, "");
    thread_ = std::jthread([this, work = std::move(work), cancel = cancel_] {
        Finish finish;
        QString error;
        bool stopped = false;
        try {
            finish = work(
                [this](double share, const QString& doing) {
                    QMetaObject::invokeMethod(
                        this,
                        [this, share, doing] {
                            if (running_) emit progressed(share, doing);
                        },
                        Qt::QueuedConnection);
                },
                cancel);
        } catch (const Cancelled&) {
            stopped = true;
        } catch (const std::exception& e) {
            error = QString::fromStdString(words_of(e));
        }
        QMetaObject::invokeMethod(
            this,
            [this, finish, error, stopped] {
                running_ = false;
                emit running_changed(false);
                if (finish) finish();
                emit ended(error, stopped);
                if (running_ || waiting_.empty()) return;
                Work next = std::move(waiting_.front());
                waiting_.pop_front();
                start(std::move(next));
            },
            Qt::QueuedConnection);
    });
}

void BackgroundJob::add(Work work) {
    if (running_)
        waiting_.push_back(std::move(work));
    else
        start(std::move(work));
}

} // namespace porb::app
