#include "app/picture/eyes_look.h"

#include "base/parallel.h"

#include <QPainter>

#include <algorithm>

namespace porb::app {

namespace {
constexpr int kGain = 3; ///< of what differs
}

Eye eye_of(EyesLook look) {
    return look == EyesLook::mono ? Eye::mono : look == EyesLook::right ? Eye::right : Eye::left;
}

QString name_of(EyesLook look) {
    switch (look) {
    case EyesLook::mono:
        return "Mono";
    case EyesLook::left:
        return "Left eye";
    case EyesLook::right:
        return "Right eye";
    case EyesLook::anaglyph:
        return "Anaglyph";
    case EyesLook::grey_anaglyph:
        return "Grey anaglyph";
    case EyesLook::parallel:
        return "Side by side";
    case EyesLook::crossed:
        return "Side by side, crossed";
    case EyesLook::difference:
        return "Difference";
    case EyesLook::by_turns:
        return "By turns";
    }
    return {};
}

const std::vector<EyesLook>& all_eyes_looks() {
    static const std::vector<EyesLook> all = {
        EyesLook::mono,     EyesLook::left,          EyesLook::right,
        EyesLook::anaglyph, EyesLook::grey_anaglyph, EyesLook::parallel,
        EyesLook::crossed,  EyesLook::difference,    EyesLook::by_turns};
    return all;
}

QImage merged(const QImage& left, const QImage& right, EyesLook look) {
    if (left.size() != right.size() || look == EyesLook::by_turns) return left;
    QImage out(left.size(), left.format());
    if (shows_beside(look)) {
        out.fill(Qt::transparent);
        QPainter p(&out);
        const int half = left.width() / 2, from = (left.width() - half) / 2;
        p.drawImage(0, 0, look == EyesLook::parallel ? left : right, from, 0, half, left.height());
        p.drawImage(half, 0, look == EyesLook::parallel ? right : left, from, 0, half, left.height());
        return out;
    }
    parallel_ranges(left.height(), 16, [&](int begin, int end) {
        for (int y = begin; y < end; ++y) {
            const auto *a = reinterpret_cast<const QRgb*>(left.constScanLine(y)),
                       *b = reinterpret_cast<const QRgb*>(right.constScanLine(y));
            auto* const to = reinterpret_cast<QRgb*>(const_cast<uchar*>(out.constScanLine(y)));
            for (int x = 0; x < left.width(); ++x) {
                const int alpha = std::max(qAlpha(a[x]), qAlpha(b[x]));
                if (look == EyesLook::anaglyph)
                    to[x] = qRgba(qRed(a[x]), qGreen(b[x]), qBlue(b[x]), alpha);
                else if (look == EyesLook::grey_anaglyph)
                    to[x] = qRgba(qGray(a[x]), qGray(b[x]), qGray(b[x]), alpha);
                else {
                    const auto apart = [](int p, int q) { return std::min(255, kGain * std::abs(p - q)); };
                    to[x] = qRgba(apart(qRed(a[x]), qRed(b[x])), apart(qGreen(a[x]), qGreen(b[x])),
                                  apart(qBlue(a[x]), qBlue(b[x])), 255);
                }
            }
        }
    });
    return out;
}

} // namespace porb::app
