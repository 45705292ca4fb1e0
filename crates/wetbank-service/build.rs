//! Makes sure that the console's folder exists, so that the crate builds before the console.

fn main() {
    let built = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/dist");
    // If it cannot be made, the embedding says so better than we could.
    let _ = std::fs::create_dir_all(built);
    println!("cargo::rerun-if-changed={built}");
}
