// What brings shares and disks back after a start: units of systemd, lines of fstab, and nothing of anybody else's.
#include "share/attach.hpp"

#include <sys/stat.h>

#include <catch2/catch.hpp>

#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

share::AttachSettings smb_settings(const TempDir& root, const char* folder = "/media/Lake films") {
    share::AttachSettings settings;
    settings.what = *share::parse_location("smb://attic:4450/Films of 2019/50% off");
    settings.folder = folder;
    settings.account = share::account_of("CEDAR\\owner", "lantern # 7");
    settings.owner = 1000;
    settings.group = 100;
    settings.content = {"Lanterns", "Music"};
    settings.root = root.path();
    return settings;
}

std::string text_of(const share::AttachPlan& plan, const std::string& ending) {
    for (const share::PlannedFile& file : plan.files) {
        if (file.path.string().ends_with(ending)) return file.text;
    }
    return {};
}

bool has(const std::string& text, const std::string& part) {
    return text.find(part) != std::string::npos;
}

}  // namespace

TEST_CASE("a unit is called after its folder as systemd wants it", "[share][attach]") {
    // By systemd-escape --path of version 252.
    CHECK(share::unit_name("/media/films", "mount") == "media-films.mount");
    CHECK(share::unit_name("/media/Lake films", "mount") == "media-Lake\\x20films.mount");
    CHECK(share::unit_name("/a.b/.c/d_\xC3\xA9:x", "mount") == "a.b-.c-d_\\xc3\\xa9:x.mount");
    CHECK(share::unit_name("/.hidden/a-b//c/", "automount") == "\\x2ehidden-a\\x2db-c.automount");
    CHECK(share::unit_name("/", "mount") == "-.mount");
}

TEST_CASE("a share's units mount it when the folder is looked into, with the account out of sight", "[share][attach]") {
    const TempDir root;
    const share::AttachSettings settings = smb_settings(root);
    const auto plan = share::plan_attach(settings);
    REQUIRE(plan);
    CHECK(root.files().empty());
    const std::string mount = text_of(*plan, "media-Lake\\x20films.mount");
    CHECK(has(mount, "\nWhat=//attic/Films of 2019/50%% off\n"));
    CHECK(has(mount, "\nWhere=/media/Lake films\n"));
    CHECK(has(mount, "\nType=cifs\n"));
    for (const char* option : {"credentials=/etc/wavecrest/media-Lake_x20films.account", "uid=1000", "gid=100", "soft",
                               "port=4450", "_netdev", "nosuid", "nodev"})
        CHECK(has(mount, option));
    CHECK(has(mount, "After=network-online.target"));
    CHECK(has(text_of(*plan, ".automount"), "WantedBy=multi-user.target"));
    for (const share::PlannedFile& file : plan->files) CHECK(file.secret == has(file.text, "lantern"));
    REQUIRE(share::carry_out(*plan));
    const base::Path account = root / "etc/wavecrest/media-Lake_x20films.account";
    struct stat info {};
    REQUIRE(::stat(account.c_str(), &info) == 0);
    CHECK((info.st_mode & 0777) == 0600);
    CHECK(has(read_text(account), "\nusername=owner\npassword=lantern # 7\ndomain=CEDAR\n"));
    CHECK(std::filesystem::read_symlink(root / "etc/systemd/system/multi-user.target.wants" /
                                        "media-Lake\\x20films.automount") ==
          "/etc/systemd/system/media-Lake\\x20films.automount");
    // Once more changes nothing, and whoever plays from it isn't interrupted; and it is read back.
    using Commands = std::vector<std::string>;
    const std::string unit = "'media-Lake\\x20films.automount'";
    CHECK(plan->commands == Commands{"systemctl daemon-reload", "systemctl restart " + unit});
    const auto again = share::plan_attach(settings);
    REQUIRE(again);
    CHECK(again->files.empty());
    CHECK(again->links.empty());
    CHECK(again->commands == Commands{"systemctl start " + unit});
    // A film more in it is kept in mind; another account makes the mount anew; a secret for all eyes doesn't stay so.
    share::AttachSettings grown = settings;
    grown.content.push_back("Reeds");
    CHECK(share::plan_attach(grown)->files.size() == 1);
    CHECK(share::plan_attach(grown)->commands == Commands{"systemctl daemon-reload", "systemctl start " + unit});
    share::AttachSettings moved = settings;
    moved.account.password = "reeds";
    CHECK(share::plan_attach(moved)->commands == Commands{"systemctl daemon-reload", "systemctl restart " + unit});
    ::chmod(account.c_str(), 0644);
    REQUIRE(share::plan_attach(settings)->files.size() == 1);
    REQUIRE(share::carry_out(*share::plan_attach(settings)));
    REQUIRE(::stat(account.c_str(), &info) == 0);
    CHECK((info.st_mode & 0777) == 0600);
    const auto all = share::attached(root.path());
    REQUIRE(all.size() == 1);
    CHECK(all[0].what == "smb://attic:4450/Films of 2019/50% off");
    CHECK(all[0].folder == "/media/Lake films");
    CHECK_FALSE(all[0].fstab);
    CHECK(share::account_of(all[0], root.path())->password == "lantern # 7");
    CHECK(share::is_same_content(all[0], {"Music", "New"}));
    CHECK_FALSE(share::is_same_content(all[0], {"Backup"}));
    // Without an account the old one isn't left lying about.
    share::AttachSettings guest = settings;
    guest.account = {};
    REQUIRE(share::carry_out(*share::plan_attach(guest)));
    CHECK_FALSE(std::filesystem::exists(account));
    REQUIRE(share::carry_out(*share::plan_detach("/media/Lake films", root.path())));
    CHECK(root.files().empty());
    CHECK(share::plan_detach("/media/Lake films", root.path()).error().kind == ErrorKind::usage);
}

TEST_CASE("a line of fstab is added beside those of others, and taken out again", "[share][attach]") {
    const TempDir root;
    const std::string before =
        "# mine\nUUID=1 / ext4 defaults 0 1\n//other/x\t/media/Other\\040disk cifs guest 0 0\n\n";
    std::filesystem::create_directories(root / "etc");
    write_all(root / "etc/fstab", before);
    share::AttachSettings settings = smb_settings(root);
    settings.fstab = true;
    for (int i = 0; i < 2; ++i) {
        const auto plan = share::plan_attach(settings);
        REQUIRE(plan);
        CHECK(plan->files.size() == (i == 0 ? 2 : 0));
        REQUIRE(share::carry_out(*plan));
        const std::string text = read_text(root / "etc/fstab");
        CHECK(text.starts_with(before));
        CHECK(has(text, "\n//attic/Films\\040of\\0402019/50%\\040off /media/Lake\\040films cifs rw,"));
        CHECK(has(text, ",_netdev,nofail,x-systemd.automount,"));
        CHECK_FALSE(has(text, "lantern"));
        CHECK(std::count(text.begin(), text.end(), '\n') == 4 + 5);
    }
    const auto all = share::attached(root.path());
    REQUIRE(all.size() == 1);
    CHECK(all[0].fstab);
    CHECK(all[0].writable);
    CHECK(all[0].folder == "/media/Lake films");
    CHECK(all[0].content == std::vector<std::string>{"Lanterns", "Music"});
    // From a line to units: it isn't in both.
    settings.fstab = false;
    REQUIRE(share::carry_out(*share::plan_attach(settings)));
    CHECK(read_text(root / "etc/fstab") == before);
    CHECK(share::attached(root.path()).size() == 1);
    settings.fstab = true;
    REQUIRE(share::carry_out(*share::plan_attach(settings)));
    CHECK(share::attached(root.path()).size() == 1);
    REQUIRE(share::carry_out(*share::plan_detach(settings.folder, root.path())));
    CHECK(read_text(root / "etc/fstab") == before);
    settings.folder = "/media/Other disk";
    const auto taken = share::plan_attach(settings);
    REQUIRE_FALSE(taken);
    CHECK(has(taken.error().where, "fstab, line 3"));
}

TEST_CASE("nothing of anybody else's is overwritten or hidden", "[share][attach]") {
    const TempDir root;
    const share::AttachSettings settings = smb_settings(root, "/media/films");
    std::filesystem::create_directories(root / "etc/systemd/system");
    write_all(root / "etc/systemd/system/media-films.mount", std::string("[Mount]\nWhat=/dev/sdb1\n"));
    CHECK(has(share::plan_attach(settings).error().what, "another wrote it"));
    CHECK(share::plan_detach("/media/films", root.path()).error().kind == ErrorKind::usage);
    std::filesystem::remove(root / "etc/systemd/system/media-films.mount");
    std::filesystem::create_directories(root / "media/films");
    CHECK(share::plan_attach(settings));
    write_all(root / "media/films/Lanterns.mkv", std::string("x"));
    CHECK(has(share::plan_attach(settings).error().what, "would be hidden"));
    share::AttachSettings wrong = smb_settings(root, "films");
    CHECK(share::plan_attach(wrong).error().kind == ErrorKind::usage);
    wrong.folder = "/";
    CHECK(share::plan_attach(wrong).error().kind == ErrorKind::usage);
    wrong.folder = "/media/x";
    wrong.what = *share::parse_location("smb://attic");
    CHECK(has(share::plan_attach(wrong).error().what, "names no share"));
    wrong.what = *share::parse_location("nfs://attic");
    CHECK(has(share::plan_attach(wrong).error().what, "names no export"));
    wrong = smb_settings(root, "/media/x");
    wrong.account.password = "two\nlines";
    CHECK_FALSE(share::plan_attach(wrong));
}

TEST_CASE("NFS and disks are mounted as their kind needs it", "[share][attach]") {
    const TempDir root;
    share::AttachSettings settings;
    settings.root = root.path();
    settings.folder = "/media/films";
    settings.what = *share::parse_location("nfs://[2001:db8::7]/export/films");
    settings.writable = false;
    const std::string nfs = text_of(*share::plan_attach(settings), "media-films.mount");
    CHECK(has(nfs, "\nWhat=[2001:db8::7]:/export/films\n"));
    CHECK(has(nfs, "\nType=nfs\n"));
    CHECK(has(nfs, "Options=ro,"));
    CHECK(has(nfs, ",vers=4,soft,"));
    CHECK_FALSE(has(nfs, "uid="));
    share::Disk disk;
    disk.system.type = "exfat";
    disk.system.id = "1A2B-3C4D";
    settings.what = disk;
    settings.owner = 1000;
    const std::string exfat = text_of(*share::plan_attach(settings), "media-films.mount");
    CHECK(has(exfat, "\nWhat=/dev/disk/by-uuid/1A2B-3C4D\n"));
    CHECK(has(exfat, ",uid=1000,"));
    CHECK_FALSE(has(exfat, "_netdev"));
    CHECK_FALSE(has(exfat, "network-online"));
    disk.system.type = "ext4";
    settings.what = disk;
    settings.fstab = true;
    const std::string ext4 = text_of(*share::plan_attach(settings), "fstab");
    CHECK(has(ext4, "/dev/disk/by-uuid/1A2B-3C4D /media/films ext4 ro,"));
    CHECK(has(ext4, "x-systemd.device-timeout="));
    CHECK_FALSE(has(ext4, "uid="));
}
