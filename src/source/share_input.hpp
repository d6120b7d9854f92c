// Inputs on file servers (share/share.hpp), without mounting them: media files, disc folders and disc images.
#pragma once

#include <memory>
#include <optional>

#include "base/address.hpp"
#include "disc/disc_files.hpp"
#include "share/share.hpp"

namespace wavecrest::source {

// A share with the place an address names, connected with this user's account for it (share/account.hpp). Those who are
// at the same share go over few connections together.
struct OpenedShare {
    std::shared_ptr<share::Share> share;
    share::Entry entry;  // what is there
    std::string path;
};
// Errors as of Share.
Result<OpenedShare> open_share(const base::Address& address, const Cancel* cancel);

// A file's bytes, here or on a share.
Result<std::unique_ptr<base::ByteSource>> open_file(const base::Address& file);

// The files of a folder there.
std::shared_ptr<disc::DiscFiles> share_files(OpenedShare opened, const disc::ReadSettings& settings);

// Average bits a second of a media file there, for an account that need not be kept; nothing where it isn't one.
std::optional<std::int64_t> bit_rate_on_share(const base::Address& address, const share::Account& account,
                                              const Cancel& cancel);

}  // namespace wavecrest::source
