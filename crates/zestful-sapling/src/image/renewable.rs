//! What an image says of itself, which its first write changes under those who look at it.

use std::sync::OnceLock;

use uuid::Uuid;

use super::ImageInfo;

/// An [`ImageInfo`] that gets a new data identity once in a session, while others read it.
pub(super) struct RenewableInfo {
    opened: ImageInfo,
    renewed: OnceLock<ImageInfo>,
}

impl RenewableInfo {
    pub(super) fn new(info: ImageInfo) -> Self {
        Self { opened: info, renewed: OnceLock::new() }
    }

    pub(super) fn get(&self) -> &ImageInfo {
        self.renewed.get().unwrap_or(&self.opened)
    }

    /// Another data identity; whoever looks sees the old information, or the new one.
    pub(super) fn renew(&self, identity: Uuid) {
        let mut info = self.opened.clone();
        info.data_identity = Some(identity);
        // A second time there is none: whoever is alone with the image changes the information itself.
        _ = self.renewed.set(info);
    }

    /// The information, for who is alone with the image.
    pub(super) fn get_mut(&mut self) -> &mut ImageInfo {
        if let Some(renewed) = self.renewed.take() {
            self.opened = renewed;
        }
        &mut self.opened
    }
}
