#pragma once

#include "app/picture/picture_service.h"
#include "app/session/background_job.h"
#include "app/session/session.h"

#include <QWidget>

#include <condition_variable>

class QPushButton;

namespace porb::app {

/// Proxies of the shot at work: made in the background, removed, and told of.
class ProxyJobs : public QObject {
    Q_OBJECT
  public:
    ProxyJobs(Session& session, PictureService& service, QObject* parent = nullptr);
    ~ProxyJobs() override;
    /// The row that is seen while some are made: how far it is, Pause and Stop.
    QWidget* bar() { return bar_; }
    bool is_running() const { return job_.is_running(); }

    /// Of the shot's videos that have none, halved so often.
    void make(int level);
    void remove();
    /// Whether they are made when a shot does not play in time; kept from run to run.
    static bool by_themselves();
    static void set_by_themselves(bool on);
    /// The shot at work does not play in time. Says whether its proxies will be made once it rests: not where
    /// they are there, or nobody wants that.
    bool plays_late();
    void rests();
    void set_paused(bool on);
    /// "6 of 6 sources, 120 MB"
    QString state() const;

  private:
    std::vector<MediaRef> videos() const;
    std::vector<MediaRef> wanted_; ///< once it rests
    void look_anew();

    Session& session_;
    PictureService& service_;
    std::shared_ptr<const ProxyStore> store_;
    QWidget* bar_;
    QPushButton* pause_;
    struct Pause {
        std::mutex mutex;
        std::condition_variable changed;
        bool on = false;
    };
    std::shared_ptr<Pause> paused_ = std::make_shared<Pause>();
    BackgroundJob job_;
};

} // namespace porb::app
