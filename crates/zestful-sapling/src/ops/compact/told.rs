//! Why an image does not give back more, in words.

use super::survey::Staying;
use crate::size::format_size;

impl Staying {
    /// A line for each reason.
    pub fn told(&self) -> Vec<String> {
        let mut told = Vec::new();
        if self.hiding_parent > 0 {
            told.push(format!(
                "{} of zeros stay: without them the parent would show, which such a child hides only by holding zeros",
                format_size(self.hiding_parent)
            ));
        }
        if self.beside_data > 0 {
            told.push(format!(
                "{} that are free stay, in blocks that hold other data: holes can be dug there",
                format_size(self.beside_data)
            ));
        }
        if self.no_volume {
            told.push("no volume is known on the disk, so that nothing of it counts as unused".to_owned());
        }
        told.extend(self.volumes.iter().map(|kept| format!("volume {} stays as it is: {}", kept.volume, kept.why)));
        told
    }
}
