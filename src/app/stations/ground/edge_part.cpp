#include "app/stations/ground/edge_part.h"

#include "app/widgets/theme.h"
#include "patch/propose.h"
#include "project/limits.h"

#include <QCheckBox>
#include <QFormLayout>
#include <QSignalBlocker>

namespace porb::app {

namespace {
constexpr double kSeen = 0.005; ///< of full scale: less is not seen
}

EdgePart::EdgePart(Session& session, PatchChoice& choice, GroundJobs& jobs, QWidget* parent)
    : GroundPart(session, choice, parent), jobs_(jobs) {
    head("MASK");
    mask_words_ = hint({}, "mask_words");
    region_ = button(column(), "Find what stands there", "mask_region",
                     "Covers what is fixed to the rig; correct it with Reveal and Hide",
                     [this] { propose_region(); });
    edge_ = button(
        column(), "Edge where it differs least", "mask_edge",
        "Widens the mask to the way round it on which patch and footage differ least, shadows included",
        [this] { propose_edge(); });
    auto* row = new QHBoxLayout;
    whole_ = button(row, "Everything", "mask_whole", "No mask: the patch shows everywhere",
                    [this] { choice_.change("Remove a mask", [](Patch& p) { p.mask = {}; }); });
    invert_ = button(row, "Nothing", "mask_none", "The patch shows nowhere until it is revealed", [this] {
        choice_.change("Clear a mask", [](Patch& p) { p.mask = TileImage(p.resolution, p.resolution, 1); });
    });
    column()->addLayout(row);
    auto* form = new QFormLayout;
    feather_ = field("Feather", "edge_feather", limits::kFeather_deg, 0.1, 2, "°", "How softly the mask ends",
                     [](Patch& p, double v) { p.feather_deg = v; });
    form->addRow("Feather", feather_);
    column()->addLayout(form);

    head("LIGHT");
    follows_ = new QCheckBox("Follows the footage's light");
    follows_->setObjectName("patch_follows");
    follows_->setToolTip("By gain and offset, found along its edge");
    connect(follows_, &QCheckBox::clicked, this, [this](bool on) {
        if (on && choice_.patch() && choice_.patch()->light.empty()) return follow();
        choice_.change("Light of a patch", [on](Patch& p) { p.follows_light = on; });
    });
    column()->addWidget(follows_);
    follow_ = button(column(), "Follow the light", "patch_follow_light",
                     "Matches the patch to the footage along its edge, four times a second over the shot",
                     [this] { follow(); });
    auto* shadow_form = new QFormLayout;
    shadows_ = field("Shadows", "patch_shadows", Range{0, 100}, 5, 0, " %",
                     "How much of the shadows that pass over the place the patch takes",
                     [](Patch& p, double v) { p.shadows = v / 100; });
    connect(shadows_, &NumberField::drag_ended, this, [this] {
        const Patch* p = choice_.patch();
        if (p && p->shadows > 0 && p->reference.empty())
            jobs_.start("Place without shadows", "Looking at the place without shadows",
                        [](const GroundJobs::Site& s) {
                            const TileImage made = shadow_reference(
                                s.composer, s.project, s.shot, s.patch,
                                plate_times(s.in, s.out, s.shot.timing.rate, 7), s.tell, s.cancel);
                            return GroundJobs::Outcome{[made](Patch& q) { q.reference = made; }, {}};
                        });
    });
    shadow_form->addRow("Passing shadows", shadows_);
    column()->addLayout(shadow_form);

    head("STEP ALONG ITS EDGE");
    figures_ = new QLabel;
    figures_->setObjectName("edge_figures");
    figures_->setWordWrap(true);
    column()->addWidget(figures_);
    measure_ = button(column(), "Measure the edge", "edge_measure",
                      "How far patch and footage differ along the edge, over the shot (Shift+K)",
                      [this] { measure(); });
    column()->addStretch(1);
}

const std::vector<EdgeStep>& EdgePart::steps() const {
    static const std::vector<EdgeStep> none;
    const Patch* p = choice_.patch();
    return p && !steps_.empty() && *p == of_ ? steps_ : none;
}

void EdgePart::measure() {
    jobs_.start("Measure the edge", "Measuring the edge", [this](const GroundJobs::Site& s) {
        const auto times = light_times(s.in, s.out, s.shot.timing.rate);
        const auto made = edge_steps(s.composer, s.project, s.shot, s.index, times, s.tell, s.cancel);
        const Patch of = s.patch;
        QMetaObject::invokeMethod(this, [this, made, of] {
            steps_ = made;
            of_ = of;
            refresh();
            emit measured();
        });
        return GroundJobs::Outcome{};
    });
}

void EdgePart::follow() {
    jobs_.start("Follow the light", "Following the light", [](const GroundJobs::Site& s) {
        const auto times = light_times(s.in, s.out, s.shot.timing.rate);
        const auto keys = followed_light(s.composer, s.project, s.shot, s.index, times, s.tell, s.cancel);
        double least = 1e9, most = 0;
        for (const PatchLightKey& k : keys)
            least = std::min(least, k.gain[1]), most = std::max(most, k.gain[1]);
        return GroundJobs::Outcome{[keys](Patch& p) {
                                       p.light = keys;
                                       p.follows_light = true;
                                   },
                                   QString("The footage's light is followed: %1 to %2 EV")
                                       .arg(std::log2(least), 0, 'f', 2)
                                       .arg(std::log2(most), 0, 'f', 2)};
    });
}

void EdgePart::propose_region() {
    jobs_.start("Find what stands there", "Looking for what stands there", [](const GroundJobs::Site& s) {
        const Proposal found = proposed(s.composer, s.project, s.shot, s.patch,
                                        plate_times(s.in, s.out, s.shot.timing.rate, 5), s.tell, s.cancel);
        return GroundJobs::Outcome{[mask = found.mask](Patch& p) { p.mask = mask; },
                                   QString("It covers %1 % of the square").arg(100 * found.share, 0, 'f', 1)};
    });
}

void EdgePart::propose_edge() {
    jobs_.start(
        "Edge of a mask", "Looking where patch and footage differ least", [](const GroundJobs::Site& s) {
            const int side = s.patch.resolution;
            std::vector<float> inside;
            for (int y = 0; y < side; ++y)
                for (int x = 0; x < side; ++x) inside.push_back(s.patch.mask.at(x, y, 0));
            if (s.patch.pixels.is_clear())
                throw Error("shows nothing yet", s.patch.name, "Fill it, or take a plate and show it, first");
            const Picture footage = moment_plate(s.composer, s.project, s.shot, s.patch, s.time, s.cancel);
            const TileImage made = least_edge(picture_of(s.patch.pixels), footage, inside);
            return GroundJobs::Outcome{[made](Patch& p) { p.mask = made; }, {}};
        });
}

void EdgePart::refresh() {
    const Patch* p = choice_.patch();
    setEnabled(p != nullptr);
    if (!p) {
        mask_words_->setText("Make a patch first: on Patches.");
        figures_->clear();
        return;
    }
    mask_words_->setText(p->mask.empty() ? "It has no mask: all of it shows."
                         : p->mask.is_clear()
                             ? "Its mask is empty: nothing of it shows. Paint with Reveal."
                             : "It shows where its mask says; paint it with Reveal and Hide.");
    feather_->set_quietly(p->feather_deg);
    shadows_->set_quietly(100 * p->shadows);
    const QSignalBlocker block(follows_);
    follows_->setChecked(p->follows_light);
    edge_->setEnabled(!p->mask.is_clear());
    whole_->setEnabled(!p->mask.empty());
    const auto& steps = this->steps();
    if (steps.empty()) {
        figures_->setText(steps_.empty() ? "Not measured yet." : "Changed since it was measured.");
        return;
    }
    double mean = 0, worst = 0;
    Seconds when{0};
    for (const EdgeStep& s : steps) {
        mean += s.step / double(steps.size());
        if (s.step > worst) worst = s.step, when = s.time;
    }
    const bool seen = worst > kSeen;
    figures_->setText(
        QString("<span style='font-size:16pt; color:%1'>%2 %</span> of full scale on the mean, %3 % at "
                "%4 s%5")
            .arg((seen ? colour::care : colour::good).name())
            .arg(100 * mean, 0, 'f', 2)
            .arg(100 * worst, 0, 'f', 2)
            .arg(when.to_double(), 0, 'f', 2)
            .arg(seen ? ": a step may be seen. Follow the light, feather it, or move the edge." : "."));
}

} // namespace porb::app
