//! State graphs as typed columns, in the Parquet format: states, edges, and the figures of the space, each a table of its own.
//!
//! Tables are written in groups of rows, so that no more than one group is held.

use std::io::{self, Write};
use std::sync::Arc;

use parquet::basic::Compression;
use parquet::data_type::{BoolType, ByteArray, ByteArrayType, Int64Type};
use parquet::errors::ParquetError;
use parquet::file::properties::WriterProperties;
use parquet::file::writer::{SerializedFileWriter, SerializedRowGroupWriter};
use parquet::schema::parser::parse_message_type;

use crate::export::Text;
use crate::net::Net;

/// Rows of one group.
const ROWS: usize = 1 << 16;

/// One column of a group of rows.
enum Column {
    Number(Vec<i64>),
    Yes(Vec<bool>),
    Text(Vec<ByteArray>),
}

fn text(t: &str) -> ByteArray {
    ByteArray::from(t)
}

fn failed(e: ParquetError) -> io::Error {
    io::Error::other(e)
}

/// Writes a table of so many rows; `columns` gives those of a range of rows.
fn table(
    out: &mut (dyn Write + Send),
    schema: &str,
    rows: usize,
    columns: impl Fn(std::ops::Range<usize>) -> Vec<Column>,
) -> io::Result<()> {
    fn one<W: Write + Send>(
        group: &mut SerializedRowGroupWriter<'_, W>,
        column: Column,
    ) -> Result<(), ParquetError> {
        let Some(mut writer) = group.next_column()? else { return Ok(()) };
        match column {
            Column::Number(list) => writer.typed::<Int64Type>().write_batch(&list, None, None)?,
            Column::Yes(list) => writer.typed::<BoolType>().write_batch(&list, None, None)?,
            Column::Text(list) => writer.typed::<ByteArrayType>().write_batch(&list, None, None)?,
        };
        writer.close()
    }
    let schema = Arc::new(parse_message_type(schema).map_err(failed)?);
    let how = WriterProperties::builder().set_compression(Compression::UNCOMPRESSED).build();
    let mut writer = SerializedFileWriter::new(out, schema, Arc::new(how)).map_err(failed)?;
    for from in (0..rows).step_by(ROWS) {
        let mut group = writer.next_row_group().map_err(failed)?;
        for column in columns(from..(from + ROWS).min(rows)) {
            one(&mut group, column).map_err(failed)?;
        }
        group.close().map_err(failed)?;
    }
    writer.close().map_err(failed)?;
    Ok(())
}

/// The states: `node`, `position`, `depth`, `status`, `start`, `must_pass`, `on_shortest`, `states`.
///
/// # Errors
///
/// When it cannot be written.
pub fn states(net: &Net, position: Text<'_>, out: &mut (dyn Write + Send)) -> io::Result<()> {
    let schema = "message states { required int64 node; required binary position (UTF8); required int64 depth; required binary status (UTF8);
        required boolean start; required boolean must_pass; required boolean on_shortest; required int64 states; }";
    table(out, schema, net.nodes.len(), |rows| {
        let nodes = &net.nodes[rows.clone()];
        let yes = |of: fn(&crate::net::Node) -> bool| Column::Yes(nodes.iter().map(of).collect());
        vec![
            Column::Number(rows.clone().map(|i| i as i64).collect()),
            Column::Text(rows.map(|i| text(&position(i))).collect()),
            Column::Number(nodes.iter().map(|n| n.depth.into()).collect()),
            Column::Text(nodes.iter().map(|n| text(n.status.word())).collect()),
            yes(|n| n.start),
            yes(|n| n.must_pass),
            yes(|n| n.on_way),
            Column::Number(nodes.iter().map(|n| n.count as i64).collect()),
        ]
    })
}

/// The edges: `from`, `to`, `move`, `fatal`.
///
/// # Errors
///
/// When it cannot be written.
pub fn edges(net: &Net, out: &mut (dyn Write + Send)) -> io::Result<()> {
    let schema = "message edges { required int64 from; required int64 to; required binary move (UTF8); required boolean fatal; }";
    let names: Vec<ByteArray> = net.names.iter().map(|n| text(n)).collect();
    table(out, schema, net.arrows.len(), |rows| {
        let arrows = &net.arrows[rows];
        vec![
            Column::Number(arrows.iter().map(|a| a.from.into()).collect()),
            Column::Number(arrows.iter().map(|a| a.to.into()).collect()),
            Column::Text(arrows.iter().map(|a| names[a.name as usize].clone()).collect()),
            Column::Yes(arrows.iter().map(|a| a.fatal).collect()),
        ]
    })
}

/// The figures of the space: `figure` and `value`.
///
/// # Errors
///
/// When it cannot be written.
pub fn figures(list: &[(&str, u64)], out: &mut (dyn Write + Send)) -> io::Result<()> {
    let schema = "message figures { required binary figure (UTF8); required int64 value; }";
    table(out, schema, list.len(), |rows| {
        let list = &list[rows];
        vec![
            Column::Text(list.iter().map(|f| text(f.0)).collect()),
            Column::Number(list.iter().map(|f| f.1 as i64).collect()),
        ]
    })
}
