#include "app/shell/proxy_jobs.h"

#include "app/session/job_bar.h"
#include "media/library.h"
#include "project/shot_media.h"

#include <QHBoxLayout>
#include <QPushButton>
#include <QSettings>

#include <utility>

namespace porb::app {

ProxyJobs::ProxyJobs(Session& session, PictureService& service, QObject* parent)
    : QObject(parent), session_(session), service_(service), store_(std::make_shared<const ProxyStore>()),
      bar_(new QWidget), pause_(new QPushButton("Pause")) {
    auto* row = new QHBoxLayout(bar_);
    row->setContentsMargins(0, 0, 0, 0);
    row->addWidget(new JobBar(job_, session_, "proxies", "what was finished"), 1);
    pause_->setObjectName("proxies_pause");
    pause_->setCheckable(true);
    pause_->setToolTip("Leaves the processor to other work until it is pressed again");
    pause_->hide();
    row->addWidget(pause_);
    connect(pause_, &QPushButton::toggled, this, &ProxyJobs::set_paused);
    connect(&job_, &BackgroundJob::running_changed, this, [this](bool runs) {
        pause_->setVisible(runs);
        if (!runs) set_paused(false);
        look_anew(); // also what was finished before it was stopped
    });
    service_.set_proxies(store_);
}
ProxyJobs::~ProxyJobs() {
    job_.stop();
    {
        const std::lock_guard lock(paused_->mutex);
        paused_->on = false;
    }
    paused_->changed.notify_all(); // whoever waits sees that it is over
}

std::vector<MediaRef> ProxyJobs::videos() const {
    const Shot* shot = session_.shot();
    return shot ? used_videos(*session_.project(), *shot) : std::vector<MediaRef>();
}

void ProxyJobs::look_anew() {
    service_.set_proxies(store_);
}

void ProxyJobs::make(int level) {
    const auto refs = videos();
    if (refs.empty())
        return session_.say("This shot has no videos that proxies could stand for.", Signal::care);
    if (job_.is_running()) return session_.say("Proxies are being made already.", Signal::care);
    job_.start([this, refs, level, store = store_, paused = paused_](
                   const BackgroundJob::Tell& tell, const Cancel& cancel) -> BackgroundJob::Finish {
        const auto told = [&](double share) {
            tell(share, "proxies");
            std::unique_lock lock(paused->mutex);
            using namespace std::chrono_literals;
            while (paused->on && !cancel.raised()) paused->changed.wait_for(lock, 100ms);
        };
        tell(0, "proxies");
        make_proxies(refs, level, *store, told, cancel);
        return [this, count = refs.size()] {
            session_.say(QString("Proxies of %1 are there: playing shows them (Shift+P for the originals).")
                             .arg(count == 1 ? "one source" : QString("%1 sources").arg(count)),
                         Signal::good);
        };
    });
}

namespace {
const char* const kByThemselves = "proxies/by_themselves";
constexpr int kLevelByThemselves = 2; ///< a quarter: made in the take's own time, and light to play
} // namespace

bool ProxyJobs::by_themselves() {
    return QSettings().value(kByThemselves, true).toBool();
}
void ProxyJobs::set_by_themselves(bool on) {
    QSettings().setValue(kByThemselves, on);
}

bool ProxyJobs::plays_late() {
    if (!by_themselves() || job_.is_running()) return false;
    const auto refs = videos();
    const bool missing =
        std::any_of(refs.begin(), refs.end(), [&](const MediaRef& ref) { return store_->of(ref).empty(); });
    if (missing) wanted_ = refs;
    return missing;
}

void ProxyJobs::rests() {
    const auto wanted = std::exchange(wanted_, {});
    if (!wanted.empty() && wanted == videos() && !job_.is_running()) make(kLevelByThemselves);
}

void ProxyJobs::remove() {
    if (job_.is_running()) return session_.say("Proxies are being made: stop that first.", Signal::care);
    int gone = 0;
    try {
        for (const MediaRef& ref : videos())
            for (const ProxyFile& file : store_->of(ref)) gone += store_->remove(file.path);
    } catch (const std::exception& e) {
        session_.say(QString::fromStdString(words_of(e)), Signal::stop);
    }
    look_anew();
    session_.say(gone == 0 ? QString("This shot has no proxies.")
                           : QString("%1 %2 removed; the sources are as they were.")
                                 .arg(gone)
                                 .arg(gone == 1 ? "proxy" : "proxies"),
                 Signal::good);
}

void ProxyJobs::set_paused(bool on) {
    {
        const std::lock_guard lock(paused_->mutex);
        paused_->on = on;
    }
    paused_->changed.notify_all();
    pause_->setChecked(on);
    pause_->setText(on ? "Go on" : "Pause");
}

QString ProxyJobs::state() const {
    std::uint64_t bytes = 0;
    int with = 0;
    const auto refs = videos();
    for (const MediaRef& ref : refs) {
        const auto files = store_->of(ref);
        with += !files.empty();
        for (const ProxyFile& file : files) bytes += file.bytes;
    }
    return QString("%1 of %2 sources, %3 MB").arg(with).arg(refs.size()).arg(double(bytes) / 1e6, 0, 'f', 0);
}

} // namespace porb::app
