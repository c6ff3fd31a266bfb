//! Requests that each client has open.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError};

/// Open requests by address.
#[derive(Debug)]
pub(crate) struct Clients {
    open: Arc<Mutex<HashMap<IpAddr, usize>>>,
    most: usize,
}

/// An open request.
#[derive(Debug)]
pub(crate) struct OpenRequest {
    open: Arc<Mutex<HashMap<IpAddr, usize>>>,
    address: IpAddr,
}

impl Clients {
    pub(crate) fn new(most: usize) -> Self {
        Self { open: Arc::default(), most }
    }

    /// Opens a request, unless the client has as many as it may.
    pub(crate) fn open(&self, address: IpAddr) -> Option<OpenRequest> {
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        let count = open.entry(address).or_default();
        if *count >= self.most {
            return None;
        }
        *count += 1;
        Some(OpenRequest { open: Arc::clone(&self.open), address })
    }
}

impl Drop for OpenRequest {
    fn drop(&mut self) {
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(count) = open.get_mut(&self.address) {
            *count -= 1;
            if *count == 0 {
                open.remove(&self.address);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::net::{IpAddr, Ipv4Addr};

    use super::Clients;

    #[test]
    fn each_client_has_its_own_count() {
        let clients = Clients::new(2);
        let [a, b] = [1, 2].map(|last| IpAddr::V4(Ipv4Addr::new(127, 0, 0, last)));
        let held = (clients.open(a).unwrap(), clients.open(a).unwrap());
        assert!(clients.open(a).is_none() && clients.open(b).is_some());
        drop(held);
        assert!(clients.open(a).is_some());
        assert!(clients.open.lock().unwrap().is_empty(), "nothing is kept of those who left");
    }
}
