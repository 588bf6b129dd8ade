//! The library stays in the process once it is loaded: closing a state would take it away otherwise, with threads that run its code.

fn main() {
    println!("cargo:rerun-if-changed=build.rs");
    if std::env::var("CARGO_CFG_TARGET_OS").as_deref() == Ok("linux") {
        println!("cargo:rustc-cdylib-link-arg=-Wl,-z,nodelete");
    }
}
