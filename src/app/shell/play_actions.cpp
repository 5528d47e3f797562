// What the menu Play offers beside the transport: every frame or real time, and proxies.
#include "app/picture/picture_area.h"
#include "app/shell/main_window.h"

#include <QMenu>
#include <QSettings>

namespace porb::app {

void MainWindow::make_play_actions(QMenu* play) {
    const auto add = [&](const QString& text, const QKeySequence& key, const std::function<void()>& work,
                         const QString& also) {
        QAction* a = action("Play", {text, key, work, Command::Goes::stays, also});
        play->addAction(a);
        return a;
    };
    QAction* every =
        add("Every frame, however long it takes", QKeySequence("Shift+J"), {}, "real time policy drop");
    every->setCheckable(true);
    connect(every, &QAction::toggled, &player_, &Player::set_every_frame);

    play->addSeparator();
    QAction* shown = add("Play from proxies", QKeySequence("Shift+P"), {}, "originals small copies");
    shown->setCheckable(true);
    shown->setChecked(QSettings().value("proxies/shown", true).toBool());
    picture_->set_proxies(shown->isChecked());
    connect(shown, &QAction::toggled, this, [this](bool on) {
        QSettings().setValue("proxies/shown", on);
        picture_->set_proxies(on);
        say(on ? "Playing shows proxies where there are such." : "Playing shows the sources themselves.",
            Signal::good);
    });
    auto* sizes = play->addMenu("Make proxies");
    static const char* const kSizes[] = {"Proxies of half the size", "Proxies of a quarter of the size",
                                         "Proxies of an eighth of the size"};
    for (int level = 1; level <= kMostProxyLevel; ++level) {
        QAction* a = action("Play", {kSizes[level - 1],
                                     {},
                                     [this, level] { proxies_.make(level); },
                                     Command::Goes::stays,
                                     "make small copies of the shot's sources"});
        sizes->addAction(a);
    }
    QAction* by_themselves = add("Make proxies where frames are dropped", {}, {}, "automatic small copies");
    by_themselves->setCheckable(true);
    by_themselves->setChecked(ProxyJobs::by_themselves());
    connect(by_themselves, &QAction::toggled, this, &ProxyJobs::set_by_themselves);
    QAction* remove = add(
        "Remove this shot's proxies", {}, [this] { proxies_.remove(); }, "small copies disk");
    connect(play, &QMenu::aboutToShow, this, [this, sizes, remove] {
        sizes->setTitle("Make proxies (" + proxies_.state() + ")");
        remove->setEnabled(!proxies_.is_running());
    });
    play->addSeparator();
}

} // namespace porb::app
