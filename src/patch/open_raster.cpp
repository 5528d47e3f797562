// OpenRaster (freedesktop.org's specification, version 0.0.6): a zip archive of PNGs and "stack.xml".
#include "base/error.h"
#include "base/file.h"
#include "media/still.h"
#include "patch/exchange.h"

#include <fmt/format.h>
#include <pugixml.hpp>
#include <unistd.h>
#include <zip.h>

#include <sstream>

namespace porb {

namespace {

constexpr std::uint64_t kMostBytes = std::uint64_t(768) << 20; ///< of one entry, unpacked

/// A folder of ours that goes with it.
class ScratchFolder {
  public:
    ScratchFolder() {
        std::string name = (std::filesystem::temp_directory_path() / "pale-orbit-XXXXXX").string();
        if (!::mkdtemp(name.data()))
            throw Error("cannot be made", name, "Make room in the folder for temporary files");
        path_ = name;
    }
    ~ScratchFolder() {
        std::error_code code;
        std::filesystem::remove_all(path_, code);
    }
    ScratchFolder(const ScratchFolder&) = delete;
    ScratchFolder& operator=(const ScratchFolder&) = delete;
    const std::filesystem::path& path() const { return path_; }

  private:
    std::filesystem::path path_;
};

Error damaged_archive(const std::filesystem::path& path, const std::string& why) {
    return Error("is not an OpenRaster file we can read (" + why + ")", path.string(),
                 "It may be half written or damaged: save it again");
}

struct Archive {
    zip_t* zip = nullptr;
    ~Archive() {
        if (zip) zip_discard(zip);
    }
};

std::string entry_of(zip_t* zip, const std::string& name, const std::filesystem::path& path) {
    zip_stat_t facts;
    if (zip_stat(zip, name.c_str(), 0, &facts) != 0) throw damaged_archive(path, "it has no " + name);
    if (!(facts.valid & ZIP_STAT_SIZE) || facts.size > kMostBytes)
        throw damaged_archive(path, name + " is larger than a layer may be");
    zip_file_t* file = zip_fopen(zip, name.c_str(), 0);
    if (!file) throw damaged_archive(path, name + " cannot be unpacked");
    std::string bytes(std::size_t(facts.size), '\0');
    const zip_int64_t n = zip_fread(file, bytes.data(), facts.size);
    const int closed = zip_fclose(file);
    if (n != zip_int64_t(facts.size) || closed != 0) throw damaged_archive(path, name + " breaks off");
    return bytes;
}

std::string png_of(const Picture& picture, const ScratchFolder& scratch, const std::string& name) {
    const auto file = scratch.path() / (name + ".png");
    write_still(picture, file, {16, 95, {}, {}, false, nullptr, {}});
    return read_text_file(file, kMostBytes);
}

void collect(const pugi::xml_node& stack, std::vector<pugi::xml_node>& layers, int depth = 0) {
    constexpr int kDeepest = 32;
    if (depth > kDeepest) return;
    for (const pugi::xml_node& child : stack.children()) {
        if (std::string_view(child.name()) == "layer") layers.push_back(child);
        if (std::string_view(child.name()) == "stack") collect(child, layers, depth + 1);
    }
}

} // namespace

void write_open_raster(const std::vector<NamedLayer>& layers, const std::filesystem::path& path) {
    const ScratchFolder scratch;
    const Picture& first = layers.front().picture;
    std::vector<std::pair<std::string, std::string>> entries; // in their order in the archive
    entries.emplace_back("mimetype", "image/openraster");
    std::string stack = fmt::format("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n"
                                    "<image version=\"0.0.6\" w=\"{}\" h=\"{}\">\n <stack>\n",
                                    first.width(), first.height());
    Picture merged;
    for (auto l = layers.rbegin(); l != layers.rend(); ++l) { // the uppermost comes first
        const bool shown = l->name == "patch" || l->name == "footage";
        stack += fmt::format("  <layer name=\"{0}\" src=\"data/{0}.png\" x=\"0\" y=\"0\" opacity=\"1.0\" "
                             "visibility=\"{1}\" composite-op=\"svg:src-over\"/>\n",
                             l->name, shown ? "visible" : "hidden");
        entries.emplace_back("data/" + l->name + ".png", png_of(l->picture, scratch, l->name));
    }
    stack += " </stack>\n</image>\n";
    merged = Picture(first.width(), first.height());
    for (int y = 0; y < merged.height(); ++y)
        for (int x = 0; x < merged.width(); ++x) {
            Rgba v;
            for (const NamedLayer& l : layers) {
                if (l.name != "patch" && l.name != "footage") continue;
                const Rgba c = pixel_at(l.picture, x, y);
                v = {c.r + (1 - c.a) * v.r, c.g + (1 - c.a) * v.g, c.b + (1 - c.a) * v.b,
                     c.a + (1 - c.a) * v.a};
            }
            set_pixel(merged, x, y, v);
        }
    Picture thumbnail = merged;
    while (std::max(thumbnail.width(), thumbnail.height()) > 256) thumbnail = halved(thumbnail);
    entries.emplace_back("stack.xml", stack);
    entries.emplace_back("mergedimage.png", png_of(merged, scratch, "merged"));
    entries.emplace_back("Thumbnails/thumbnail.png", png_of(thumbnail, scratch, "thumbnail"));

    PartFile part(path);
    int fault = 0;
    Archive archive{zip_open(part.path().c_str(), ZIP_CREATE | ZIP_TRUNCATE, &fault)};
    const auto failed = [&] {
        return Error("cannot be written", path.string(), "Make room on the disk, or choose another place");
    };
    if (!archive.zip) throw failed();
    for (const auto& [name, bytes] : entries) {
        zip_source_t* source = zip_source_buffer(archive.zip, bytes.data(), bytes.size(), 0);
        const zip_int64_t index =
            source ? zip_file_add(archive.zip, name.c_str(), source, ZIP_FL_ENC_UTF_8) : -1;
        if (index < 0) throw failed();
        // PNGs are packed already, and the first entry must not be.
        zip_set_file_compression(archive.zip, zip_uint64_t(index),
                                 name == "stack.xml" ? ZIP_CM_DEFLATE : ZIP_CM_STORE, 0);
    }
    if (zip_close(archive.zip) != 0) throw failed();
    archive.zip = nullptr;
    part.commit();
}

std::vector<NamedLayer> read_open_raster(const std::filesystem::path& path) {
    int fault = 0;
    Archive archive{zip_open(path.c_str(), ZIP_RDONLY, &fault)};
    if (!archive.zip) throw damaged_archive(path, "it is no zip archive");
    pugi::xml_document document;
    const std::string stack = entry_of(archive.zip, "stack.xml", path);
    if (!document.load_buffer(stack.data(), stack.size()))
        throw damaged_archive(path, "its stack.xml is no XML");
    const pugi::xml_node image = document.child("image");
    const std::int64_t width = image.attribute("w").as_llong(), height = image.attribute("h").as_llong();
    check_layer_size(width, height, path);
    std::vector<pugi::xml_node> nodes;
    collect(image, nodes);
    const ScratchFolder scratch;
    std::vector<NamedLayer> out;
    for (const pugi::xml_node& node : nodes) {
        const std::string name = node.attribute("name").as_string();
        if (name != "footage" && name != "plate" && name != "patch" && name != "mask") continue;
        const auto file = scratch.path() / "layer.png";
        write_file_atomically(file, entry_of(archive.zip, node.attribute("src").as_string(), path));
        Picture part;
        try {
            part = read_still(file);
        } catch (const Error&) {
            throw damaged_archive(path, "its layer '" + name + "' is no picture");
        }
        // Programs cut layers to what is on them.
        const int dx = node.attribute("x").as_int(), dy = node.attribute("y").as_int();
        Picture whole{int(width), int(height)};
        for (int y = 0; y < whole.height(); ++y)
            for (int x = 0; x < whole.width(); ++x) {
                const int px = x - dx, py = y - dy;
                const bool inside = px >= 0 && py >= 0 && px < part.width() && py < part.height();
                set_pixel(whole, x, y, inside ? pixel_at(part, px, py) : Rgba());
            }
        out.push_back({name, std::move(whole)});
    }
    return out;
}

} // namespace porb
