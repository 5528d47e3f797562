#pragma once

#include "app/picture/timeline.h"
#include "app/session/session.h"

#include <QWidget>

namespace porb::app {

/// The lane under the ruler that shows when something crosses a seam: open ones as pointed marks, closed ones
/// as round ones. A click goes there.
class CrossingLane : public QWidget {
    Q_OBJECT
  public:
    CrossingLane(Session& session, TimeRuler& ruler, QWidget* parent = nullptr);
    QSize sizeHint() const override { return {200, 30}; }

  signals:
    void chosen(int index); ///< of the shot's crossings

  protected:
    void paintEvent(QPaintEvent*) override;
    void mousePressEvent(QMouseEvent*) override;
    bool event(QEvent*) override;

  private:
    struct Mark {
        int index;
        QRectF bar;
    };
    std::vector<Mark> marks() const;
    int under(const QPointF& at) const;
    Session& session_;
    TimeRuler& ruler_;
};

} // namespace porb::app
