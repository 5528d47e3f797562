#pragma once

#include "project/takes.h"

#include <QTreeWidget>

namespace porb::app {

/// Proposed takes with their files below them. A file is moved to another take by dragging it there (or with
/// Ctrl+X and Ctrl+V); dropped on free ground it becomes a take of its own. Unticked takes are left out.
class TakeTree : public QTreeWidget {
    Q_OBJECT
  public:
    explicit TakeTree(QWidget* parent = nullptr);
    void set_takes(std::vector<Take> takes, std::vector<FoundFile> files);
    std::vector<Take> wanted() const; ///< the ticked ones
    const std::vector<FoundFile>& files() const { return files_; }
    /// Reasons and remarks of the take at the current row, as words.
    QString words() const;
    /// Moves file `f` to take `to`, or to a new one when `to` is the number of takes.
    void move_file(std::size_t f, std::size_t to);
    /// The take of the current row and, on a file's row, the file.
    std::optional<std::size_t> current_take() const;
    std::optional<std::size_t> current_file() const;

  signals:
    void changed();

  protected:
    void dropEvent(QDropEvent*) override;
    void keyPressEvent(QKeyEvent*) override;

  private:
    void show_takes();
    std::vector<Take> takes_;
    std::vector<FoundFile> files_;
    std::optional<std::size_t> cut_; ///< a file on its way by keyboard
};

} // namespace porb::app
