//! The console that is embedded is built by other tools: when it changes, this crate does.

fn main() {
    println!("cargo::rerun-if-changed=../../console/dist");
}
