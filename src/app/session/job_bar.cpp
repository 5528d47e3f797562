#include "app/session/job_bar.h"

#include <QHBoxLayout>
#include <QProgressBar>
#include <QPushButton>

namespace porb::app {

namespace {
/// "about 40 s left", once enough is done to say so.
QString time_left(double share, double gone_s) {
    constexpr double kEnoughShare = 0.03, kEnough_s = 2;
    if (share < kEnoughShare || share >= 1 || gone_s < kEnough_s) return {};
    const double left = gone_s * (1 - share) / share;
    if (left < 90) return QString(", about %1 s left").arg(std::max(1.0, left), 0, 'f', 0);
    return QString(", about %1 min left").arg(left / 60, 0, 'f', 0);
}
} // namespace

JobBar::JobBar(BackgroundJob& job, Session& session, const QString& name, const QString& unharmed,
               QWidget* parent)
    : QWidget(parent), bar_(new QProgressBar) {
    auto* row = new QHBoxLayout(this);
    row->setContentsMargins(0, 0, 0, 0);
    bar_->setObjectName(name + "_progress");
    auto* stop = new QPushButton("Stop");
    stop->setObjectName(name + "_stop");
    stop->setToolTip("Ends it; " + unharmed + " stays as it was");
    row->addWidget(bar_, 1);
    row->addWidget(stop);
    hide();
    connect(stop, &QPushButton::clicked, &job, &BackgroundJob::stop);
    connect(&job, &BackgroundJob::running_changed, this, [this](bool runs) {
        if (runs) clock_.start();
        setVisible(runs);
    });
    connect(&job, &BackgroundJob::progressed, this, &JobBar::show_progress);
    connect(&job, &BackgroundJob::ended, this, [&session, unharmed](const QString& error, bool stopped) {
        const QString stays = unharmed + " stays as it was.";
        if (stopped)
            session.say("Stopped; " + stays, Signal::care);
        else if (!error.isEmpty())
            session.say(error + " " + stays.left(1).toUpper() + stays.mid(1), Signal::stop);
    });
}

void JobBar::show_progress(double share, const QString& doing) {
    bar_->setRange(0, share > 0 ? 1000 : 0); // nothing to tell yet: it only shows that something goes on
    bar_->setValue(int(1000 * share));
    bar_->setFormat(doing + "  %p %" + time_left(share, double(clock_.elapsed()) / 1000));
}

} // namespace porb::app
