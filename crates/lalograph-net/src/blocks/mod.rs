//! Building blocks of networks. A block holds no weights: it knows where its own lie in the flat array, and keeps what its
//! backward pass needs in a tape that is made once.

pub mod convolution;
pub mod dense;
pub mod dropout;
pub mod embedding;
pub mod norm;
pub mod pooling;
pub mod recurrent;
pub mod regularisation;
pub mod reverse;
pub mod stack;
