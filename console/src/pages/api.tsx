// The API, drawn from the document that the service makes of its own types.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Loading, PageHead, Section, TextInput, Trouble } from "../components/ui";

type Schema = { $ref?: string; type?: string | string[]; description?: string; enum?: string[]; properties?: Record<string, Schema>; required?: string[]; items?: Schema; format?: string };
type Parameter = { name: string; in: string; description?: string; required?: boolean; schema?: Schema };
type Operation = { operationId: string; summary?: string; description?: string; tags?: string[]; parameters?: Parameter[]; requestBody?: { content: Record<string, { schema?: Schema }> }; responses: Record<string, { content?: Record<string, { schema?: Schema }> }> };
type Document = { info: { description?: string }; paths: Record<string, Record<string, Operation>>; components: { schemas: Record<string, Schema> } };

const methods = ["get", "post", "put", "patch", "delete"];

export function ApiPage() {
  const query = useQuery({
    queryKey: ["openapi"],
    queryFn: async () => (await (await fetch("/api/v1/openapi.json")).json()) as Document,
  });
  const [filter, setFilter] = useState("");
  if (query.isPending) return <Loading what="the description of the API" />;
  if (!query.data) return <Trouble error={query.error} retry={() => void query.refetch()} />;
  const document = query.data;
  const wanted = filter.trim().toLowerCase();
  const operations = Object.entries(document.paths).flatMap(([path, item]) =>
    methods.flatMap((method) => {
      const operation = item[method];
      return operation ? [{ path, method, operation }] : [];
    }),
  );
  const kept = operations.filter(({ path, operation }) => `${path} ${operation.summary} ${operation.operationId}`.toLowerCase().includes(wanted));
  const tags = [...new Set(kept.map(({ operation }) => operation.tags?.[0] ?? ""))].sort();
  return (
    <>
      <PageHead title="API" verdict={<span className="text-soft">{document.info.description} <a className="text-span underline underline-offset-2" href="/api/v1/openapi.json">The OpenAPI 3.1 document</a>.</span>} />
      <TextInput type="search" aria-label="Filter operations" placeholder="Filter operations" value={filter} onChange={(e) => setFilter(e.target.value)} className="mb-4 max-w-64" />
      {kept.length === 0 && <p className="text-soft">Nothing matches “{filter}”.</p>}
      {tags.map((tag) => (
        <Section key={tag} title={tag}>
          <div className="border-t border-line">
            {kept.filter(({ operation }) => operation.tags?.[0] === tag).map(({ path, method, operation }) => (
              <details key={operation.operationId} className="border-b border-line">
                <summary className="cursor-pointer py-1.5">
                  <code className="inline-block w-16 font-semibold text-span uppercase">{method}</code>
                  <code className="mr-4">{path}</code>
                  <span className="text-soft">{operation.summary}</span>
                </summary>
                <OperationDetail operation={operation} schemas={document.components.schemas} />
              </details>
            ))}
          </div>
        </Section>
      ))}
    </>
  );
}

function OperationDetail({ operation, schemas }: { operation: Operation; schemas: Record<string, Schema> }) {
  const sent = operation.requestBody?.content["application/json"]?.schema;
  const answers = Object.entries(operation.responses).filter(([status]) => status.startsWith("2"));
  return (
    <div className="grid gap-3 py-2 pl-16">
      {operation.description && <p>{operation.description}</p>}
      {operation.parameters && (
        <Fields title="Parameters" rows={operation.parameters.map((p) => ({ name: p.name, kind: `${typeName(p.schema)}, ${p.in}`, required: p.required, text: p.description }))} />
      )}
      {sent && <SchemaFields title="Sent" schema={sent} schemas={schemas} />}
      {answers.map(([status, answer]) => {
        const schema = answer.content?.["application/json"]?.schema;
        return schema ? <SchemaFields key={status} title={`Answer ${status}`} schema={schema} schemas={schemas} /> : <p key={status} className="text-soft">Answer {status}, without content.</p>;
      })}
    </div>
  );
}

const nameOf = (ref: string) => ref.slice(ref.lastIndexOf("/") + 1);

function typeName(schema: Schema | undefined): string {
  if (!schema) return "";
  if (schema.$ref) return nameOf(schema.$ref);
  if (schema.items) return `list of ${typeName(schema.items)}`;
  if (schema.enum) return schema.enum.join(" | ");
  return [schema.type].flat().join(" or ") + (schema.format ? ` (${schema.format})` : "");
}

function SchemaFields({ title, schema, schemas }: { title: string; schema: Schema; schemas: Record<string, Schema> }) {
  const found = schema.$ref ? schemas[nameOf(schema.$ref)] : schema;
  const rows = Object.entries(found?.properties ?? {}).map(([name, p]) => ({ name, kind: typeName(p), required: found?.required?.includes(name), text: p.description }));
  return <Fields title={`${title}: ${typeName(schema)}`} rows={rows} />;
}

function Fields({ title, rows }: { title: string; rows: { name: string; kind: string; required?: boolean; text?: string }[] }) {
  return (
    <div>
      <h3 className="font-medium">{title}</h3>
      <table className="w-full text-sm">
        <thead className="sr-only">
          <tr>
            <th>Name</th>
            <th>Type</th>
            <th>Meaning</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr key={row.name} className="align-baseline">
              <td className="w-44 py-0.5 pr-4">
                <code>{row.name}</code>
                {row.required && <span className="text-soft"> (needed)</span>}
              </td>
              <td className="w-52 py-0.5 pr-4 text-soft">{row.kind}</td>
              <td className="py-0.5">{row.text}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
