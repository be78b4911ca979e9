#include "folder.h"

#include "descriptor.h"
#include "process.h"
#include "writing.h"

#include <cerrno>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <ctime>
#include <fcntl.h>
#include <filesystem>
#include <fmt/format.h>
#include <fstream>
#include <set>
#include <sys/file.h>
#include <unistd.h>
#include <utility>

namespace jackal::cli {

namespace fs = std::filesystem;

namespace {

// Names the files that were written, so that only those are ever removed.
constexpr const char* list_name = ".files";

// A folder without a name of its own yet; removed, with all that is in it, unless it gets one.
class FolderBeside {
  public:
    explicit FolderBeside(const std::string& path) : path_(path) {
        const fs::path whole = fs::path(path).lexically_normal();
        const fs::path name = whole.has_filename() ? whole : whole.parent_path();
        final_ = name;
        const std::string stem = fmt::format(".{}.", name.filename().string());
        tidy(name.has_parent_path() ? name.parent_path() : fs::path("."), stem);
        folder_ = (name.parent_path() / (stem + "XXXXXX")).string();
        if (mkdtemp(folder_.data()) == nullptr)
            fail_to_write(path_, std::strerror(errno));
        lock_ = locked(folder_);
        chmod(folder_.c_str(), unmasked(0777));
    }
    FolderBeside(const FolderBeside&) = delete;
    FolderBeside& operator=(const FolderBeside&) = delete;
    ~FolderBeside() {
        std::error_code ignored;
        fs::remove_all(folder_, ignored);
    }

    void write(const std::string& name, const std::string& text) {
        const fs::path file = fs::path(folder_) / name;
        std::error_code error;
        fs::create_directories(file.parent_path(), error);
        if (error)
            fail_to_write(path_, error.message());
        std::ofstream out(file, std::ios::binary);
        out << text;
        out.close();
        if (!out)
            fail_to_write(path_, std::strerror(errno));
    }

    void place() {
        if (renameat2(AT_FDCWD, folder_.c_str(), AT_FDCWD, final_.c_str(), RENAME_NOREPLACE) != 0)
            fail_to_write(path_, errno == EEXIST ? already_there : std::strerror(errno));
        folder_.clear();
    }

    /// What stood there before goes with the folder's first name.
    void exchange() {
        if (renameat2(AT_FDCWD, folder_.c_str(), AT_FDCWD, final_.c_str(), RENAME_EXCHANGE) != 0)
            fail_to_write(path_, std::strerror(errno));
    }

  private:
    // The folder, so that no other writer takes it for one that was left; or nothing, if another
    // has it.
    static Descriptor locked(const std::string& folder) {
        Descriptor opened(open(folder.c_str(), O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC));
        return opened && flock(opened.get(), LOCK_EX | LOCK_NB) == 0 ? std::move(opened)
                                                                     : Descriptor();
    }

    // Removes what a writer left that was killed.
    static void tidy(const fs::path& parent, const std::string& stem) {
        constexpr std::size_t random_letters = 6;
        std::error_code error;
        std::vector<fs::path> left;
        for (const auto& entry : fs::directory_iterator(parent, error)) {
            const std::string name = entry.path().filename();
            if (name.size() == stem.size() + random_letters && name.starts_with(stem)
                && fs::exists(entry.path() / list_name))
                left.push_back(entry.path());
        }
        for (const fs::path& folder : left)
            if (const Descriptor lock = locked(folder))
                fs::remove_all(folder, error);
    }

    std::string path_;
    fs::path final_;
    std::string folder_;
    Descriptor lock_;
};

// Whatever is not on the folder's own list belongs to somebody else.
void refuse_others(const std::string& path) {
    std::set<std::string> known{list_name};
    std::ifstream list(fs::path(path) / list_name);
    if (!list)
        fail_to_write(path, "it is no folder that an export has written");
    for (std::string line; std::getline(list, line);)
        known.insert(line);
    std::error_code error;
    for (fs::recursive_directory_iterator entry(path, error), end; entry != end;
         entry.increment(error)) {
        if (error)
            break;
        const std::string name = entry->path().lexically_relative(path).generic_string();
        if (!entry->is_directory() && !known.contains(name))
            fail_to_write(path, fmt::format("{} is in it, which an export has not written", name));
    }
    if (error)
        fail_to_write(path, error.message());
}

} // namespace

void write_folder(const std::string& path, const std::vector<exports::File>& files, bool replace) {
    const bool is_there = fs::exists(fs::symlink_status(path));
    if (is_there && replace)
        refuse_others(path);
    const Undisturbed undisturbed;
    FolderBeside beside(path);
    std::string list;
    for (const exports::File& file : files)
        list += file.path + "\n";
    beside.write(list_name, list); // first: it tells whose folder it is, should it be left
    const std::clock_t start = std::clock();
    for (const exports::File& file : files) {
        constexpr double share = 0.6; // of the time to write them, files are taken away in
        const double written_s = static_cast<double>(std::clock() - start) / CLOCKS_PER_SEC;
        const bool is_late = is_time_short(share * written_s);
        if (is_late || Undisturbed::is_asked_to_stop())
            fail_to_write(path, is_late ? out_of_time() : "it was interrupted");
        beside.write(file.path, file.text);
    }
    if (is_there && replace)
        beside.exchange();
    else
        beside.place();
}

} // namespace jackal::cli
