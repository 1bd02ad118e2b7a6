const at = (id) => document.getElementById(id);
const show = () => { at('count').textContent = localStorage.getItem('count') || '0'; };
at('more').addEventListener('click', () => {
  localStorage.setItem('count', String(Number(localStorage.getItem('count') || 0) + 1));
  show();
});
at('later').addEventListener('click', () => setTimeout(() => { at('came').hidden = false; }, 500));
at('field').addEventListener('input', () => { at('echo').textContent = at('field').value; });
show();
