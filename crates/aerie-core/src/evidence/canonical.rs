use serde_json::Value;

/// Canonical JSON (RFC 8785) of a value whose numbers are integers: keys sorted by UTF-16 code units, no white space.
///
/// Floating-point numbers are written as serde_json writes them; events hold none.
pub fn canonical_json(value: &Value) -> String {
    let mut out = String::new();
    write(value, &mut out);
    out
}

fn write(value: &Value, out: &mut String) {
    match value {
        Value::Object(map) => {
            let mut keys: Vec<&String> = map.keys().collect();
            keys.sort_by(|a, b| a.encode_utf16().cmp(b.encode_utf16()));
            out.push('{');
            for (i, key) in keys.into_iter().enumerate() {
                if i > 0 {
                    out.push(',');
                }
                out.push_str(&Value::String(key.clone()).to_string());
                out.push(':');
                write(map.get(key).unwrap_or(&Value::Null), out);
            }
            out.push('}');
        }
        Value::Array(items) => {
            out.push('[');
            for (i, item) in items.iter().enumerate() {
                if i > 0 {
                    out.push(',');
                }
                write(item, out);
            }
            out.push(']');
        }
        Value::Null | Value::Bool(_) | Value::Number(_) | Value::String(_) => out.push_str(&value.to_string()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_are_sorted_and_nothing_is_added() {
        let v = serde_json::json!({"b": [1, true, null], "a": {"z": "é\n\u{1}", "y": -5}, "\u{10000}": 1, "\u{ffff}": 2});
        assert_eq!(canonical_json(&v), "{\"a\":{\"y\":-5,\"z\":\"é\\n\\u0001\"},\"b\":[1,true,null],\"\u{10000}\":1,\"\u{ffff}\":2}");
    }
}
