#include "source/digest.hpp"

#include <fmt/format.h>
#include <openssl/evp.h>

#include <algorithm>
#include <array>
#include <vector>

#include "base/address.hpp"
#include "base/byte_source.hpp"
#include "source/share_input.hpp"

namespace wavecrest::source {
namespace {

class Digest {
  public:
    Digest() : context_(EVP_MD_CTX_new()) { EVP_DigestInit_ex(context_, EVP_sha256(), nullptr); }
    ~Digest() { EVP_MD_CTX_free(context_); }
    Digest(const Digest&) = delete;
    Digest& operator=(const Digest&) = delete;
    void add(ByteSpan bytes) { EVP_DigestUpdate(context_, bytes.data(), bytes.size()); }
    void add(const std::string& text) { add(base::as_bytes(text)); }
    std::string hex() {
        std::array<unsigned char, EVP_MAX_MD_SIZE> out{};
        unsigned size = 0;
        EVP_DigestFinal_ex(context_, out.data(), &size);
        std::string text;
        for (unsigned i = 0; i < size; ++i) text += fmt::format("{:02x}", out[i]);
        return text;
    }

  private:
    EVP_MD_CTX* context_;
};

// A disc's tables are small; its streams are known by their sizes.
constexpr std::uint64_t kWholeFile = 4 << 20;
constexpr std::size_t kEnd = 1 << 20;
constexpr std::size_t kMostFiles = 20'000;
constexpr std::uint64_t kMostRead = 64 << 20;  // of a folder; the rest by its sizes

Status add_file(base::ByteSource& file, Digest& digest) {
    const std::uint64_t size = file.size();
    digest.add(fmt::format("{}\n", size));
    ByteVector bytes(static_cast<std::size_t>(std::min<std::uint64_t>(size, size <= kWholeFile ? kWholeFile : kEnd)));
    WAVECREST_TRY_ASSIGN(got, file.read_at(0, bytes));
    digest.add(ByteSpan(bytes).first(got));
    if (size <= kWholeFile) return {};
    WAVECREST_TRY_ASSIGN(end, file.read_at(size - kEnd, bytes));
    digest.add(ByteSpan(bytes).first(end));
    return {};
}
Status add_file(const base::Path& path, Digest& digest) {
    WAVECREST_TRY_ASSIGN(file, base::FileSource::open(path));
    return add_file(file, digest);
}

// Of a file or a folder on a share: the same as here.
Result<std::string> digest_on_share(const base::Address& source) {
    WAVECREST_TRY_ASSIGN(opened, open_share(source, nullptr));
    Digest digest;
    if (!opened.entry.folder) {
        WAVECREST_TRY_ASSIGN(file, opened.share->read(opened.path));
        WAVECREST_TRY(add_file(*file, digest));
        return digest.hex();
    }
    std::vector<std::pair<std::string, std::uint64_t>> files;  // relative paths, sizes
    std::vector<std::string> folders = {""};
    while (!folders.empty() && files.size() < kMostFiles) {
        const std::string folder = std::move(folders.back());
        folders.pop_back();
        WAVECREST_TRY_ASSIGN(entries, opened.share->list(share::joined(opened.path, folder)));
        for (const share::Entry& one : entries) {
            const std::string path = share::joined(folder, one.name);
            if (one.folder) folders.push_back(path);
            if (!one.folder) files.emplace_back(path, one.size);
        }
    }
    std::sort(files.begin(), files.end(), [](const auto& a, const auto& b) {
        return base::Path(a.first) < base::Path(b.first);  // as folders here are sorted
    });
    std::uint64_t read = 0;
    for (const auto& [path, size] : files) {
        digest.add(path + "\n");
        if (size <= kWholeFile && (read += size) <= kMostRead) {
            WAVECREST_TRY_ASSIGN(file, opened.share->read(share::joined(opened.path, path)));
            WAVECREST_TRY(add_file(*file, digest));
        } else {
            digest.add(fmt::format("{}\n", size));
        }
    }
    return digest.hex();
}

}  // namespace

std::string text_digest(const std::string& text) {
    Digest digest;
    digest.add(text);
    return digest.hex();
}

Result<std::string> digest_of(const std::string& source) {
    if (base::Address(source).is_share()) return digest_on_share(source);
    std::error_code error;
    Digest digest;
    const base::Path path = source;
    if (!std::filesystem::is_directory(path, error)) {
        if (!std::filesystem::is_regular_file(path, error)) return std::string();
        WAVECREST_TRY(add_file(path, digest));
        return digest.hex();
    }
    // In the order of their names, which is not that of the folder.
    std::vector<base::Path> files;
    for (auto i = std::filesystem::recursive_directory_iterator(
             path, std::filesystem::directory_options::skip_permission_denied, error);
         !error && i != std::filesystem::recursive_directory_iterator() && files.size() < kMostFiles;
         i.increment(error)) {
        std::error_code ignored;
        if (i->is_regular_file(ignored)) files.push_back(i->path());
    }
    if (error)
        return fail(ErrorKind::machine, "the folder can't be read: " + base::system_reason(error.value()), source,
                    "check the drive or share");
    std::sort(files.begin(), files.end());
    std::uint64_t read = 0;
    for (const base::Path& file : files) {
        digest.add(file.lexically_relative(path).generic_string() + "\n");
        const std::uintmax_t size = std::filesystem::file_size(file, error);
        if (size <= kWholeFile && (read += size) <= kMostRead) {
            WAVECREST_TRY(add_file(file, digest));
        } else {
            digest.add(fmt::format("{}\n", size));
        }
    }
    return digest.hex();
}

}  // namespace wavecrest::source
