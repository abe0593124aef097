import { useProjects } from "../api/queries";
import { AddProject } from "../parts/AddProject";
import { ProblemText } from "../parts/ProblemText";

/** The apps that the bench can build, and from where. */
export function ProjectList() {
  const projects = useProjects();
  return (
    <section aria-label="App directories" className="mt-8">
      <h2 className="text-section font-semibold">App directories</h2>
      <ProblemText error={projects.error} />
      {projects.data?.items.length === 0 && (
        <p className="mt-1 text-secondary">The bench does not know an app to build yet.</p>
      )}
      <ul className="mt-1">
        {projects.data?.items.map((p) => (
          <li key={p.dir} className="py-1 text-row">
            <b className="font-semibold">{p.name || p.app}</b>{" "}
            <span className="text-secondary">{p.trouble || p.version}</span>
            <span className="mono block break-all text-secondary">{p.dir}</span>
          </li>
        ))}
      </ul>
      <AddProject />
    </section>
  );
}
