//! The front end's folder must exist to be embedded, even before it was built.
fn main() {
    println!("cargo:rerun-if-changed=build.rs");
    println!("cargo:rerun-if-changed=../../web/dist");
    if let Err(error) = std::fs::create_dir_all("../../web/dist") {
        println!("cargo:warning=the folder of the front end could not be made: {error}");
    }
}
