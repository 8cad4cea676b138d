//! Notes what the build found. openh264's own build uses nasm if it is there and says nothing if not; libvpx,
//! libtheora, libde265, the OpenCORE decoders of AMR and SVT-AV1 are used through a few lines of C if their headers are there.

fn main() {
    let nasm = std::process::Command::new("nasm").arg("-v").output().is_ok_and(|o| o.status.success());
    println!("cargo:rustc-env=DEFT_PORTER_NASM={}", if nasm { "yes" } else { "no" });
    println!("cargo:rerun-if-env-changed=PATH");
    // 1.8 is the first with the depth of a picture where the lines of C look for it.
    system_library("vpx", "vpx", "1.8", "src/codec/vpx/shim.c");
    // 1.0 is the first whose settings stay where they are.
    system_library("theora", "theoradec", "1.1", "src/codec/theora/shim.c");
    // The first that gives 4:2:2.
    system_library("de265", "libde265", "1.0", "src/codec/hevc/shim.c");
    system_libraries("amr", &["opencore-amrnb", "opencore-amrwb"], "0.1", "src/codec/amr/shim.c");
    system_library("svt", "SvtAv1Enc", "1.0", "src/codec/svt/shim.c");
}

/// Sets `cfg(NAME)` where the library is there and the lines of C around it can be built.
fn system_library(name: &str, package: &str, least: &str, shim: &str) {
    system_libraries(name, &[package], least, shim);
}

fn system_libraries(name: &str, packages: &[&str], least: &str, shim: &str) {
    println!("cargo:rerun-if-changed={shim}");
    println!("cargo:rustc-check-cfg=cfg({name})");
    let mut build = cc::Build::new();
    build.file(shim).cargo_warnings(false);
    let probe = |p: &&str| pkg_config::Config::new().atleast_version(least).cargo_metadata(false).probe(p);
    let Ok(found) = packages.iter().map(probe).collect::<Result<Vec<_>, _>>() else { return };
    found.iter().for_each(|f| _ = build.includes(&f.include_paths));
    if let Err(e) = build.try_compile(&format!("porter_{name}")) {
        println!(
            "cargo:warning={} is left out: {shim} cannot be compiled with its headers ({e})",
            packages.join(", ")
        );
        return;
    }
    println!("cargo:rustc-cfg={name}");
    for found in found {
        found.link_paths.iter().for_each(|p| println!("cargo:rustc-link-search=native={}", p.display()));
        found.libs.iter().for_each(|l| println!("cargo:rustc-link-lib={l}"));
    }
}
