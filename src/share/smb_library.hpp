// libsmbclient, loaded by those who talk SMB: it brings a hundred libraries with it, which would cost every command at
// its start.
#pragma once

namespace wavecrest::share {

// Loads it, once. Its functions (libsmbclient.h) may be called when this was true; false where it isn't installed.
bool load_smb_library();

}  // namespace wavecrest::share
