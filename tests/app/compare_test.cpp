#include "app/comparison.h"
#include "bench.h"

#include <QComboBox>
#include <QToolButton>

using namespace porb;
using namespace porb::app;
using namespace porb::test;

TEST_CASE("the present is compared with another state by wipe, blink, difference and side by side") {
    Bench b(false);
    sim::SimOptions o;
    o.circle_size = 240;
    StillTake take = hall_still(b.folder, o);
    take.project.shots[0].flow.on = false;
    save_project(take.project, b.folder / "still.porb");
    REQUIRE(b.window.open_project(b.folder / "still.porb"));
    b.settle();
    PictureArea& picture = b.window.picture();
    Comparison& compare = picture.comparison();
    auto* with = b.part<QComboBox>("compare_with");
    const QPoint left = picture.rect().center() - QPoint(picture.width() / 4, 0),
                 right = picture.rect().center() + QPoint(picture.width() / 4, 0);
    const auto greys = [&] { return std::pair{b.grey(left), b.grey(right)}; };
    const auto plain = greys();

    b.trigger("Compare with another state");
    CHECK(compare.is_on());
    CHECK(with->findText("as saved") < 0); // it is the present
    b.settle();
    CHECK(greys() == plain); // colours as shot are the present's too
    b.session().edit_shot("Darken", [](Shot& s) {
        for (auto& c : s.cameras) c.colour.exposure_ev = -2;
    });
    CHECK(with->itemText(0) == "before: Darken");
    CHECK(with->findText("as saved") >= 0);
    with->setCurrentIndex(0);
    emit with->activated(0);
    b.settle();
    // Now at the left of the line, before at its right; the line is dragged.
    CHECK(greys().first < plain.first - 10);
    CHECK(greys().second == plain.second);
    drag(&picture, QPoint(picture.width() / 2, 60), QPoint(picture.width() / 8, 60));
    CHECK(compare.wipe() == Approx(1 / 8.0).margin(0.02));
    CHECK(greys() == plain);
    CHECK(picture.look().yaw_deg == 0); // the drag was the line's alone

    b.part<QToolButton>("compare_difference")->click();
    const auto differs = greys();
    CHECK(differs.first > 100);
    CHECK(b.part<QWidget>("compare_gain")->isVisible());
    b.part<QToolButton>("compare_blink")->click();
    const int dark = b.grey(left);
    CHECK(dark < plain.first - 10);
    CHECK(QTest::qWaitFor([&] { return b.grey(left) == plain.first; }, 5000));
    b.trigger("Compare side by side");
    CHECK(b.grey(picture.rect().center() - QPoint(20, 0)) != b.grey(picture.rect().center() + QPoint(20, 0)));

    // A state is held, whatever is undone after it.
    b.trigger("Hold this state to compare with");
    b.session().undo();
    b.settle();
    CHECK(with->currentText() == "the held state");
    REQUIRE(compare.other());
    CHECK(compare.other()->shots[0].cameras[0].colour.exposure_ev == -2);
    b.trigger("Compare with another state");
    CHECK_FALSE(compare.is_on());
    b.settle();
    CHECK(greys() == plain);
}
