import { useEffect, useState } from 'react';

/** A field whose text goes to the address a moment after it was typed. */
export function Typed({
  value,
  onChange,
  label,
  placeholder,
  width,
  mono,
}: {
  value: string;
  onChange: (v: string) => void;
  label: string;
  placeholder: string;
  width: number;
  mono?: boolean;
}) {
  const [text, setText] = useState(value);
  useEffect(() => setText(value), [value]);
  useEffect(() => {
    if (text === value) return;
    const wait = setTimeout(() => onChange(text), 250);
    return () => clearTimeout(wait);
  });
  return (
    <span className={`field ${mono ? 'mono' : ''}`} style={{ width }}>
      <input
        value={text}
        onChange={(e) => setText(e.target.value)}
        aria-label={label}
        placeholder={placeholder}
        spellCheck={false}
      />
    </span>
  );
}
