//! Notes what the build found: openh264's own build uses nasm if it is there and says nothing if not.

fn main() {
    let nasm = std::process::Command::new("nasm").arg("-v").output().is_ok_and(|o| o.status.success());
    println!("cargo:rustc-env=DEFT_PORTER_NASM={}", if nasm { "yes" } else { "no" });
    println!("cargo:rerun-if-env-changed=PATH");
}
