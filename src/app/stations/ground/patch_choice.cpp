#include "app/stations/ground/patch_choice.h"

namespace porb::app {

PatchChoice::PatchChoice(Session& session, QObject* parent) : QObject(parent), session_(session) {
    const auto follow = [this] {
        const Shot* shot = session_.shot();
        const int count = shot ? int(shot->patches.size()) : 0;
        if (!shot || shot->id != shot_) {
            shot_ = shot ? shot->id : std::string();
            index_ = count - 1;
        }
        if (index_ < 0 && count > 0) index_ = count - 1;
        index_ = std::min(index_, count - 1);
        emit changed();
    };
    connect(&session_, &Session::project_changed, this, follow);
    connect(&session_, &Session::shot_changed, this, follow);
    connect(&session_, &Session::playhead_changed, this, &PatchChoice::changed);
    follow();
}

const Patch* PatchChoice::patch() const {
    const Shot* shot = session_.shot();
    return shot && index_ >= 0 && index_ < int(shot->patches.size()) ? &shot->patches[std::size_t(index_)]
                                                                     : nullptr;
}

void PatchChoice::choose(int index) {
    if (index == index_) return;
    index_ = index;
    emit changed();
}

bool PatchChoice::change(const QString& label, const std::function<void(Patch&)>& work, const QString& key) {
    if (!patch()) return false;
    return session_.edit_shot(
        label, [&](Shot& s) { work(s.patches[std::size_t(index_)]); }, key);
}

void PatchChoice::add(const QString& label, Patch patch) {
    const Shot* shot = session_.shot();
    if (!shot) return;
    const int at = int(shot->patches.size());
    index_ = at;
    if (!session_.edit_shot(label, [&](Shot& s) { s.patches.push_back(std::move(patch)); })) index_ = at - 1;
    emit changed();
}

void PatchChoice::remove() {
    if (!patch()) return;
    session_.edit_shot("Remove patch " + QString::fromStdString(patch()->name),
                       [&](Shot& s) { s.patches.erase(std::size_t(index_)); });
}

void PatchChoice::move(int up) {
    const Shot* shot = session_.shot();
    const int to = index_ + up;
    if (!patch() || to < 0 || to >= int(shot->patches.size())) return;
    const int from = std::exchange(index_, to);
    session_.edit_shot(up > 0 ? "Raise a patch" : "Lower a patch", [&](Shot& s) {
        const Patch moved = std::as_const(s.patches)[std::size_t(from)];
        s.patches[std::size_t(from)] = Patch(std::as_const(s.patches)[std::size_t(to)]);
        s.patches[std::size_t(to)] = moved;
    });
}

std::optional<PatchPlacement> PatchChoice::placement() const {
    const Patch* p = patch();
    if (!p) return std::nullopt;
    return placement_of(*session_.shot(), *p, place_at(*p, session_.playhead()), session_.playhead(),
                        Eye::mono);
}

QString PatchChoice::free_name(const QString& stem) const {
    const Shot* shot = session_.shot();
    QString name = stem;
    const auto taken = [&](const QString& n) {
        return shot && std::any_of(shot->patches.begin(), shot->patches.end(),
                                   [&](const Patch& p) { return p.name == n.toStdString(); });
    };
    for (int n = 2; taken(name); ++n) name = stem + " " + QString::number(n);
    return name;
}

} // namespace porb::app
