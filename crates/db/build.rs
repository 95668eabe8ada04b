//! Builds anew when a migration changes.
fn main() {
    println!("cargo:rerun-if-changed=migrations");
}
