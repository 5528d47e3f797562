#include "cli/project_edit.h"
#include "cli/verbs.h"

#include "base/json.h"
#include "media/proxies.h"
#include "project/shot_media.h"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <iostream>
#include <mutex>

namespace porb::cli {

namespace {
struct ProxyWords {
    std::string project, shot, folder;
    int level = 1;
    bool list = false, remove = false, remove_all = false, json = false;
};

const std::map<std::string, int> kSizes = {{"half", 1}, {"quarter", 2}, {"eighth", 3}};
std::string size_name(int level) {
    for (const auto& [name, value] : kSizes)
        if (value == level) return name;
    return {};
}

void list_proxies(const ProxyStore& store, const std::vector<MediaRef>& refs, bool json) {
    Json sources = Json::array();
    for (const MediaRef& ref : refs) {
        Json files = Json::array();
        for (const ProxyFile& file : store.of(ref))
            files.push_back(
                {{"size", size_name(file.level)}, {"bytes", file.bytes}, {"path", file.path.string()}});
        if (!json) {
            std::cout << ref.path.string() << "\n";
            if (files.empty()) std::cout << "  none\n";
            for (const Json& f : files)
                std::cout << fmt::format("  {:<8} {:>9.1f} MB\n", f["size"].get<std::string>(),
                                         double(f["bytes"].get<std::uint64_t>()) / 1e6);
        }
        sources.push_back({{"source", ref.path.string()}, {"proxies", files}});
    }
    if (json) std::cout << dump_json({{"folder", store.folder().string()}, {"sources", sources}});
}

void run_proxy(const ProxyWords& w, const Run& run) {
    const ProxyStore store(w.folder.empty() ? ProxyStore::usual_folder() : std::filesystem::path(w.folder));
    if (w.remove_all) {
        std::uint64_t bytes = 0;
        int gone = 0;
        for (const ProxyFile& file : store.all()) bytes += file.bytes, gone += store.remove(file.path);
        std::cout << fmt::format("{} removed, {:.1f} MB\n", gone, double(bytes) / 1e6);
        return;
    }
    if (w.project.empty()) throw CLI::ValidationError("proxy", "needs PROJECT, or --remove-all");
    Project project = opened_project(w.project);
    const auto refs = used_videos(project, chosen_shot(project, w.shot, w.project));
    if (w.list) return list_proxies(store, refs, w.json);
    if (refs.empty())
        throw Error("has no videos that proxies could stand for", w.project,
                    "Proxies are made of videos alone");
    if (w.remove) {
        int gone = 0;
        for (const MediaRef& ref : refs)
            for (const ProxyFile& file : store.of(ref)) gone += store.remove(file.path);
        std::cout << gone << " removed\n";
        return;
    }
    std::mutex mutex;
    make_proxies(
        refs, w.level, store,
        [&](double share) {
            const std::lock_guard lock(mutex);
            show_progress(fmt::format("proxies of {} sources: {:.0f} %", refs.size(), 100 * share),
                          share >= 1);
        },
        run.cancel);
    list_proxies(store, refs, w.json);
}
} // namespace

void add_proxy_verbs(CLI::App& app, const Run& run) {
    auto* verb =
        app.add_subcommand("proxy", "make, list and remove small copies of a shot's videos, for playing");
    auto w = std::make_shared<ProxyWords>();
    verb->add_option("project", w->project, "project file");
    verb->add_option("--shot", w->shot, "shot, by name or id (the first unless said)");
    verb->add_option("--size", w->level, "of its source: half (unless said), quarter or eighth")
        ->transform(CLI::CheckedTransformer(kSizes))
        ->option_text("half|quarter|eighth");
    verb->add_option("--folder", w->folder, "where proxies are kept (the user's cache folder unless said)");
    auto* list = verb->add_flag("--list", w->list, "say which there are");
    auto* remove = verb->add_flag("--remove", w->remove, "remove the shot's");
    auto* remove_all = verb->add_flag("--remove-all", w->remove_all, "remove those of every project");
    list->excludes(remove)->excludes(remove_all);
    remove->excludes(remove_all);
    verb->add_flag("--json", w->json, "for programs");
    verb->callback([w, run] { run_proxy(*w, run); });
}

} // namespace porb::cli
