#pragma once

#include "support/support.h"

#include "app/shell/main_window.h"
#include "app/widgets/theme.h"

#include <QAction>
#include <QApplication>
#include <QMouseEvent>
#include <QTest>

namespace porb::test {

/// A window on a tiny take of its own, with its files in a temporary folder.
struct Bench {
    explicit Bench(bool open = true) : window(folder.path()) {
        window.show();
        if (!open) return;
        write_counting_movie(folder / "c.mp4", {.width = 400, .height = 200, .frames = 30});
        Project p;
        Shot shot = shot_for_rig(tiny_rig(200), "t");
        for (auto& c : shot.cameras)
            c.media = shot.timing.sound = add_media(p, media_ref_for(folder / "c.mp4"));
        p.shots.push_back(shot);
        save_project(p, folder / "p.porb");
        REQUIRE(window.open_project(folder / "p.porb"));
        settle();
    }
    /// Opens the hall as a still through two lenses; `decide` sets the shot up before.
    template <class Decide>
    void open_hall(int circle_size, Decide&& decide) {
        sim::SimOptions o;
        o.circle_size = circle_size;
        StillTake take = hall_still(folder, o);
        decide(take.project.shots[0]);
        save_project(take.project, folder / "still.porb");
        REQUIRE(window.open_project(folder / "still.porb"));
        settle();
    }
    void open_hall(int circle_size) {
        open_hall(circle_size, [](Shot&) {});
    }
    /// Opens the small take of the ring of six.
    void open_ring() { REQUIRE(window.open_project(ring_project(folder))); }
    /// Lets the picture come to rest.
    void settle() {
        REQUIRE(QTest::qWaitFor([&] { return window.picture().settled(); }, 120000));
        QTest::qWait(20);
    }
    template <class T>
    T* part(const char* name) {
        T* p = window.findChild<T*>(name);
        REQUIRE(p);
        return p;
    }
    /// A part of a station, by its class.
    template <class T>
    T& station() {
        T* p = window.findChild<T*>();
        REQUIRE(p);
        return *p;
    }
    app::Session& session() { return window.session(); }
    const Shot& shot() { return *window.session().shot(); }
    /// What is on the picture at a place, as grey 0..255.
    int grey(const QPoint& at) {
        return qGray(window.picture().grab().toImage().pixel(at * window.picture().devicePixelRatio()));
    }
    void trigger(const QString& name) {
        for (QAction* a : window.all_actions())
            if (a->text().remove('&') == name) return a->trigger();
        FAIL("no action " << name.toStdString());
    }
    TempFolder folder;
    app::MainWindow window;
};

inline void drag(QWidget* widget, const QPoint& from, const QPoint& to,
                 Qt::KeyboardModifiers modifiers = {}) {
    QTest::mousePress(widget, Qt::LeftButton, modifiers, from);
    for (int i = 1; i <= 8; ++i) { // moves with the button held, as a hand makes them
        const QPoint at = from + (to - from) * i / 8;
        QMouseEvent move(QEvent::MouseMove, at, widget->mapToGlobal(at), Qt::NoButton, Qt::LeftButton,
                         modifiers);
        QApplication::sendEvent(widget, &move);
        QTest::qWait(5);
    }
    QTest::mouseRelease(widget, Qt::LeftButton, modifiers, to);
}

} // namespace porb::test
