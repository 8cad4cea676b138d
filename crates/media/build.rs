//! Notes what the build found. openh264's own build uses nasm if it is there and says nothing if not; libvpx is
//! used through a few lines of C if its headers are there.

fn main() {
    let nasm = std::process::Command::new("nasm").arg("-v").output().is_ok_and(|o| o.status.success());
    println!("cargo:rustc-env=DEFT_PORTER_NASM={}", if nasm { "yes" } else { "no" });
    println!("cargo:rerun-if-env-changed=PATH");
    println!("cargo:rerun-if-changed=src/codec/vpx/shim.c");
    println!("cargo:rustc-check-cfg=cfg(vpx)");
    // 1.8 is the first with the depth of a picture where the lines of C look for it.
    if let Ok(found) = pkg_config::Config::new().atleast_version("1.8").cargo_metadata(false).probe("vpx")
        && cc::Build::new()
            .file("src/codec/vpx/shim.c")
            .includes(&found.include_paths)
            .cargo_warnings(false)
            .try_compile("porter_vpx")
            .is_ok()
    {
        println!("cargo:rustc-cfg=vpx");
        found.link_paths.iter().for_each(|p| println!("cargo:rustc-link-search=native={}", p.display()));
        found.libs.iter().for_each(|l| println!("cargo:rustc-link-lib={l}"));
    }
}
