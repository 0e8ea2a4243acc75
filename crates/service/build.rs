//! Builds the service again when the console has been built again.

fn main() {
    println!("cargo:rerun-if-changed=../../console/dist");
}
