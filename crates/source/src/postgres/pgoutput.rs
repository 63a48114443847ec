//! The messages of PostgreSQL's `pgoutput` plugin (logical replication message formats, protocol version 1), decoded.
//!
//! Only what the bytes say is here; what it means for tables and transactions is up to [`rows`](super::rows).
//! Every length is checked: a message that is cut short or has something left over is an error, never a panic.

use bytes::{Buf, Bytes};

/// The database's own number for a table.
pub type Oid = u32;

/// A place in the write-ahead log.
pub type Lsn = u64;

/// One column value of a row on the stream.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Cell {
    /// NULL.
    Null,
    /// A large value that did not change and is not sent.
    Unchanged,
    /// The value as text.
    Text(Bytes),
}

/// The values of a row, in the order of the relation's columns.
pub type Cells = Vec<Cell>;

/// What is sent of a row as it was.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum OldRow {
    /// Only the columns of the replica identity; the others are NULL.
    Key(Cells),
    /// All of it.
    Full(Cells),
}

/// A column of a relation.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RelationColumn {
    /// Whether it is part of the replica identity.
    pub identity: bool,
    /// Its name.
    pub name: String,
    /// Its type.
    pub ty: Oid,
}

/// A table as it was when the rows that follow were written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Relation {
    /// Its number.
    pub id: Oid,
    /// Its schema.
    pub schema: String,
    /// Its name.
    pub name: String,
    /// `d`efault, `n`othing, `f`ull or `i`ndex.
    pub identity: u8,
    /// Its columns.
    pub columns: Vec<RelationColumn>,
}

/// One message.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Message {
    /// A transaction begins.
    Begin {
        /// Where its commit record begins.
        commit_lsn: Lsn,
        /// When it was committed, in microseconds since 2000.
        at: i64,
        /// The low 32 bits of its number.
        xid: u32,
    },
    /// It ends.
    Commit {
        /// Where its commit record begins.
        commit_lsn: Lsn,
        /// Where its commit record ends.
        end_lsn: Lsn,
    },
    /// A table is described, before its first row and whenever it may have changed.
    Relation(Relation),
    /// A type is described.
    Type,
    /// A row was inserted.
    Insert(Oid, Cells),
    /// A row was updated.
    Update(Oid, Option<OldRow>, Cells),
    /// A row was deleted.
    Delete(Oid, OldRow),
    /// Tables were emptied.
    Truncate(Vec<Oid>),
    /// The transaction came from another server.
    Origin,
    /// An application's own message.
    Logical {
        /// Whose it is.
        prefix: String,
    },
}

/// What is wrong with a message.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum DecodeError {
    /// It ends too early.
    #[error("a message that is cut short")]
    Short,
    /// It goes on after its end.
    #[error("a message with {0} bytes too many")]
    TooLong(usize),
    /// A kind that is not known.
    #[error("a message of unknown kind {0:?}")]
    Kind(char),
    /// A text that is not UTF-8.
    #[error("a name that is not UTF-8")]
    Text,
}

type Result<T> = std::result::Result<T, DecodeError>;

/// Bytes that are taken off the front of a message.
struct Input(Bytes);

impl Input {
    fn need(&self, n: usize) -> Result<()> {
        if self.0.len() < n { Err(DecodeError::Short) } else { Ok(()) }
    }

    fn u8(&mut self) -> Result<u8> {
        self.need(1).map(|()| self.0.get_u8())
    }

    fn u16(&mut self) -> Result<u16> {
        self.need(2).map(|()| self.0.get_u16())
    }

    fn u32(&mut self) -> Result<u32> {
        self.need(4).map(|()| self.0.get_u32())
    }

    fn u64(&mut self) -> Result<u64> {
        self.need(8).map(|()| self.0.get_u64())
    }

    fn bytes(&mut self, n: usize) -> Result<Bytes> {
        self.need(n).map(|()| self.0.split_to(n))
    }

    fn text(&mut self) -> Result<String> {
        let end = self.0.iter().position(|b| *b == 0).ok_or(DecodeError::Short)?;
        let text = self.0.split_to(end);
        self.0.advance(1);
        String::from_utf8(text.to_vec()).map_err(|_| DecodeError::Text)
    }

    fn cells(&mut self) -> Result<Cells> {
        let n = self.u16()?;
        (0..n).map(|_| self.cell()).collect()
    }

    fn cell(&mut self) -> Result<Cell> {
        Ok(match self.u8()? {
            b'n' => Cell::Null,
            b'u' => Cell::Unchanged,
            b't' => {
                let n = self.u32()? as usize;
                Cell::Text(self.bytes(n)?)
            }
            other => return Err(DecodeError::Kind(other.into())),
        })
    }

    fn old_row(&mut self, kind: u8) -> Result<OldRow> {
        match kind {
            b'K' => Ok(OldRow::Key(self.cells()?)),
            b'O' => Ok(OldRow::Full(self.cells()?)),
            other => Err(DecodeError::Kind(other.into())),
        }
    }
}

/// Decodes one message.
///
/// # Errors
/// The bytes are no message of `pgoutput`.
#[expect(clippy::too_many_lines, reason = "one arm per message")]
pub fn decode(bytes: Bytes) -> Result<Message> {
    let mut input = Input(bytes);
    let message = match input.u8()? {
        b'B' => Message::Begin { commit_lsn: input.u64()?, at: input.u64()? as i64, xid: input.u32()? },
        b'C' => {
            let _flags = input.u8()?;
            let (commit_lsn, end_lsn) = (input.u64()?, input.u64()?);
            let _at = input.u64()?;
            Message::Commit { commit_lsn, end_lsn }
        }
        b'R' => Message::Relation(relation(&mut input)?),
        b'Y' => {
            let _oid = input.u32()?;
            input.text()?;
            input.text()?;
            Message::Type
        }
        b'I' => {
            let id = input.u32()?;
            match input.u8()? {
                b'N' => Message::Insert(id, input.cells()?),
                other => return Err(DecodeError::Kind(other.into())),
            }
        }
        b'U' => {
            let id = input.u32()?;
            let mut kind = input.u8()?;
            let mut old = None;
            if kind != b'N' {
                old = Some(input.old_row(kind)?);
                kind = input.u8()?;
            }
            match kind {
                b'N' => Message::Update(id, old, input.cells()?),
                other => return Err(DecodeError::Kind(other.into())),
            }
        }
        b'D' => {
            let id = input.u32()?;
            let kind = input.u8()?;
            Message::Delete(id, input.old_row(kind)?)
        }
        b'T' => {
            let n = input.u32()?;
            let _options = input.u8()?;
            Message::Truncate((0..n).map(|_| input.u32()).collect::<Result<_>>()?)
        }
        b'O' => {
            let _lsn = input.u64()?;
            input.text()?;
            Message::Origin
        }
        b'M' => {
            let _flags = input.u8()?;
            let _lsn = input.u64()?;
            let prefix = input.text()?;
            let n = input.u32()? as usize;
            input.bytes(n)?;
            Message::Logical { prefix }
        }
        other => return Err(DecodeError::Kind(other.into())),
    };
    match input.0.len() {
        0 => Ok(message),
        left => Err(DecodeError::TooLong(left)),
    }
}

fn relation(input: &mut Input) -> Result<Relation> {
    let id = input.u32()?;
    let (schema, name) = (input.text()?, input.text()?);
    let identity = input.u8()?;
    let n = input.u16()?;
    let mut columns = Vec::new();
    for _ in 0..n {
        let identity = input.u8()? & 1 == 1;
        let (name, ty) = (input.text()?, input.u32()?);
        let _modifier = input.u32()?;
        columns.push(RelationColumn { identity, name, ty });
    }
    // The catalog's own schema goes without its name.
    let schema = if schema.is_empty() { "pg_catalog".into() } else { schema };
    Ok(Relation { id, schema, name, identity, columns })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn an_update_with_its_old_row_is_decoded() {
        let mut m = vec![b'U', 0, 0, 0, 7, b'O', 0, 2, b't', 0, 0, 0, 1, b'5', b'n', b'N', 0, 2];
        m.extend([b't', 0, 0, 0, 1, b'6', b'u']);
        let text = |s: &'static str| Cell::Text(Bytes::from_static(s.as_bytes()));
        let old = OldRow::Full(vec![text("5"), Cell::Null]);
        assert_eq!(decode(m.clone().into()), Ok(Message::Update(7, Some(old), vec![text("6"), Cell::Unchanged])));
        m.push(0);
        assert_eq!(decode(m.into()), Err(DecodeError::TooLong(1)));
    }

    proptest! {
        #[test]
        fn no_bytes_are_too_strange(kind in proptest::sample::select(&b"BCRYIUDTOM?"[..]), rest: Vec<u8>) {
            let _ = decode([&[kind][..], &rest].concat().into());
        }
    }
}
