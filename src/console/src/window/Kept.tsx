import { useQuery } from "@tanstack/react-query";
import { api, take } from "../api/client";

const read = (picture: Blob) =>
  new Promise<string>((done, failed) => {
    const reader = new FileReader();
    reader.onload = () => done(String(reader.result));
    reader.onerror = () => failed(reader.error);
    reader.readAsDataURL(picture);
  });

/** What a run showed last on its display. Asked for as every call is: a picture's own address says nothing of who asks. */
export function Kept({ name, run, taken }: { name: string; run: number; taken: string }) {
  const picture = useQuery({
    queryKey: ["window", name, run, taken],
    queryFn: async () =>
      read(
        (await take(
          api.GET("/api/services/{name}/window", { params: { path: { name }, query: { run } }, parseAs: "blob" }),
        )) as Blob,
      ),
  });
  return picture.error ? (
    <span className="attention">{picture.error.message}</span>
  ) : picture.data ? (
    <img className="window-kept" alt={`What run ${run} showed last`} src={picture.data} />
  ) : (
    <span className="quiet">Fetching it…</span>
  );
}
