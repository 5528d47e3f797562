#include "app/picture/comparison.h"
#include "bench.h"

#include <QComboBox>
#include <QToolButton>

#include <functional>

using namespace porb;
using namespace porb::app;
using namespace porb::test;

TEST_CASE("the present is compared with another state by wipe, blink, difference and side by side") {
    Bench b(false);
    b.open_hall(240, [](Shot& s) { s.seams.flow.on = false; });
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

TEST_CASE("every state on offer is what its name says, and only states that differ are on offer") {
    Bench b(false);
    b.open_hall(160);
    const Shot saved = b.shot();
    Comparison& compare = b.window.picture().comparison();
    CHECK_FALSE(compare.other()); // off: nothing is made for it
    b.trigger("Compare with another state");
    auto* with = b.part<QComboBox>("compare_with");
    for (const char* name : {"lines half-way", "ungraded", "without denoising", "the held state", "as saved"})
        CHECK(with->findText(name) < 0);
    CHECK(with->findText("rig of", Qt::MatchStartsWith) < 0);

    KeptSolve kept;
    kept.name = "morning";
    kept.rig = b.shot().rig;
    kept.rig.cameras[0].pose.turn.yaw_deg += 3;
    b.session().edit_shot("Decide much", [&](Shot& s) {
        s.look.grade.exposure_ev = 1;
        s.look.denoise.on = true;
        s.seams.flow.on = true;
        SeamLines lines;
        lines.keys = {
            {Seconds(0), std::vector<std::uint8_t>(std::size_t(SeamLines::kSide * SeamLines::kSide))}};
        s.seams.seam_lines = lines;
        s.seams.blend.kind = Blending::multiband;
        Shape cut;
        cut.name = "cut";
        cut.keys = {{Seconds(0), std::vector<ShapeCorner>(3)}};
        cut.keys[0].corners[1].at = {0.2, 0.1}, cut.keys[0].corners[2].at = {0.2, 0.2};
        s.cameras[0].shapes = {cut};
        s.seams.shelters = {{"keeper", "A", {}, true, {}, {}, 0.5, 2, {{Seconds(0), 0, 0, 20, 40}}}};
        s.calibration.solves = {kept};
    });
    const Shot now = b.shot();
    const auto other = [&](const QString& name) {
        INFO(name.toStdString());
        const int i = with->findText(name);
        REQUIRE(i >= 0);
        with->setCurrentIndex(i);
        emit with->activated(i);
        const ProjectPtr p = compare.other();
        REQUIRE(p);
        CHECK(compare.other_name() == name);
        return p->shots[0];
    };
    // Each takes its own decision back and leaves all others.
    const std::pair<const char*, std::function<void(Shot&)>> takes_back[] = {
        {"colours as shot", [](Shot& t) { t.colour.match.on = false; }},
        {"parallax left open", [](Shot& t) { t.seams.flow.on = false; }},
        {"ungraded", [](Shot& t) { t.look.grade.on = false; }},
        {"without denoising", [](Shot& t) { t.look.denoise.on = false; }},
        {"lines half-way", [](Shot& t) { t.seams.seam_lines = SeamLines(); }},
        {"no seam work",
         [](Shot& t) {
             t.seams.seam_lines = SeamLines();
             t.seams.flow.on = false;
             t.seams.blend = {};
             t.seams.shelters.clear();
             t.cameras[0].shapes.clear();
         }},
    };
    for (const auto& [name, take_back] : takes_back) {
        Shot expected = now;
        take_back(expected);
        CHECK(other(name) == expected);
    }
    CHECK(other("rig of morning").rig.cameras[0].pose.turn.yaw_deg == kept.rig.cameras[0].pose.turn.yaw_deg);
    CHECK(other("as saved") == saved);
    CHECK(other("before: Decide much") == saved);
    CHECK(b.shot() == now); // looking changes nothing
    CHECK_FALSE(b.session().history().can_redo());

    // What is chosen stays chosen while more is decided, and falls back when it is no longer there.
    CHECK(other("ungraded").look.grade.exposure_ev == 1);
    b.session().edit_shot("Brighter", [](Shot& s) { s.look.grade.exposure_ev = 2; });
    CHECK(compare.other_name() == "ungraded");
    CHECK(compare.other()->shots[0].look.grade.exposure_ev == 2);
    b.session().edit_shot("Neutral", [](Shot& s) { s.look.grade = Grade(); });
    CHECK(with->findText("ungraded") < 0);
    CHECK(compare.other_name() == "before: Neutral");
}
