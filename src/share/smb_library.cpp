#include "share/smb_library.hpp"

#include <dlfcn.h>
#include <libsmbclient.h>

#include <cstdlib>

namespace wavecrest::share {
namespace {

constexpr const char* kLibrary = "libsmbclient.so.0";

void* library() {
    static void* const loaded = ::dlopen(kLibrary, RTLD_NOW | RTLD_LOCAL);
    return loaded;
}

template <typename Function>
Function* loaded(const char* name) {
    void* const found = library() != nullptr ? ::dlsym(library(), name) : nullptr;
    // (A library of this name has them all since Samba 3.2.)
    if (found == nullptr) std::abort();
    return reinterpret_cast<Function*>(found);
}

}  // namespace

bool load_smb_library() {
    return library() != nullptr;
}

}  // namespace wavecrest::share

// The library's functions by their own names, as far as smb_client.cpp calls them.
#define FORWARD(result, name, parameters, arguments)                                   \
    extern "C" result name parameters {                                                \
        static auto* const function = wavecrest::share::loaded<decltype(name)>(#name); \
        return function arguments;                                                     \
    }
#define FORWARD_GETTER(type, name) FORWARD(type, name, (SMBCCTX * context), (context))

FORWARD(SMBCCTX*, smbc_new_context, (), ())
FORWARD(SMBCCTX*, smbc_init_context, (SMBCCTX * context), (context))
FORWARD(int, smbc_free_context, (SMBCCTX * context, int shut_down), (context, shut_down))
FORWARD(void, smbc_setDebug, (SMBCCTX * context, int level), (context, level))
FORWARD(void, smbc_setPort, (SMBCCTX * context, std::uint16_t port), (context, port))
FORWARD(void, smbc_setTimeout, (SMBCCTX * context, int milliseconds), (context, milliseconds))
FORWARD(void, smbc_setOptionUserData, (SMBCCTX * context, void* data), (context, data))
FORWARD_GETTER(void*, smbc_getOptionUserData)
FORWARD(void, smbc_setOptionNoAutoAnonymousLogin, (SMBCCTX * context, smbc_bool on), (context, on))
FORWARD(smbc_bool, smbc_setOptionProtocols, (SMBCCTX * context, const char* least, const char* most),
        (context, least, most))
FORWARD(void, smbc_setFunctionAuthDataWithContext, (SMBCCTX * context, smbc_get_auth_data_with_context_fn asked),
        (context, asked))
FORWARD_GETTER(smbc_open_fn, smbc_getFunctionOpen)
FORWARD_GETTER(smbc_read_fn, smbc_getFunctionRead)
FORWARD_GETTER(smbc_write_fn, smbc_getFunctionWrite)
FORWARD_GETTER(smbc_lseek_fn, smbc_getFunctionLseek)
FORWARD_GETTER(smbc_close_fn, smbc_getFunctionClose)
FORWARD_GETTER(smbc_stat_fn, smbc_getFunctionStat)
FORWARD_GETTER(smbc_statvfs_fn, smbc_getFunctionStatVFS)
FORWARD_GETTER(smbc_unlink_fn, smbc_getFunctionUnlink)
FORWARD_GETTER(smbc_rename_fn, smbc_getFunctionRename)
FORWARD_GETTER(smbc_opendir_fn, smbc_getFunctionOpendir)
FORWARD_GETTER(smbc_closedir_fn, smbc_getFunctionClosedir)
FORWARD_GETTER(smbc_readdir_fn, smbc_getFunctionReaddir)
FORWARD_GETTER(smbc_readdirplus_fn, smbc_getFunctionReaddirPlus)
FORWARD_GETTER(smbc_mkdir_fn, smbc_getFunctionMkdir)
FORWARD_GETTER(smbc_rmdir_fn, smbc_getFunctionRmdir)
