//! What an answer's status means, in words (RFC 9110, 15; RFC 6585, 4).

use havrel_core::quality::Reason;

/// A status in words, what mends it, and the quality it means for a tag.
pub fn meaning(status: u16) -> (&'static str, &'static str, Reason) {
    const LATER: &str = "It usually passes; ask less often if it does not.";
    const FAILED: &str = "Look into the log of the program.";
    const PATH: &str = "Check the path, and whether the manual writes it with a slash at the end.";
    match status {
        204 | 205 => ("there is nothing to tell at present", LATER, Reason::NoValue),
        400 | 422 => ("it does not understand the request", "Check path, parameters and body.", Reason::Refused),
        401 => ("it wants to know who asks", "Check the login.", Reason::NotReadable),
        403 => ("this login may not read it", "Give the login the right, or choose another login.", Reason::NotReadable),
        404 | 410 => ("there is nothing under this path", PATH, Reason::NoSuchAddress),
        405 => ("it does not take this method", "Choose the other method.", Reason::Refused),
        406 => ("it cannot tell this in a form that Havrel reads", "Add a header Accept that the manual names.", Reason::Refused),
        415 => ("it does not take a body of this type", "Add a header Content-Type that the manual names.", Reason::Refused),
        429 => ("it is asked too often", "Set a longer interval.", Reason::Refused),
        502 | 504 => ("what stands behind it does not answer", LATER, Reason::NoAnswer),
        503 => ("it is not available at present", LATER, Reason::Refused),
        500..=599 => ("it failed", FAILED, Reason::DeviceFailure),
        300..=399 => ("it sends on, and does not say where to", PATH, Reason::Refused),
        _ => ("it refuses", "The manual says what the program allows.", Reason::Refused),
    }
}
